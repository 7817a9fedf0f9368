import { Box, chakra } from '@chakra-ui/react';
import { useState } from 'react';

import { count } from '../../look/format';
import { Code } from '../../look/parts';
import type { Json } from './useAnswer';

/** How many members are shown before the rest is asked for. */
const most = 100;

/** JSON as a tree whose branches open and close. */
export function Tree({ text }: { text: string }) {
  let value: Json;
  try {
    value = JSON.parse(text) as Json;
  } catch {
    return <Code>{text}</Code>;
  }
  return (
    <Box fontFamily="mono" fontSize="12.5px" lineHeight="1.7">
      <Branch name="" value={value} depth={0} />
    </Box>
  );
}

function Branch({ name, value, depth }: { name: string; value: Json; depth: number }) {
  const [all, setAll] = useState(false);
  if (typeof value !== 'object' || value === null) return <Leaf name={name} value={value} />;
  const members = Object.entries(value);
  const size = Array.isArray(value) ? `[${count(value.length)}]` : `{${count(members.length)}}`;
  return (
    <chakra.details open={depth < 3} paddingLeft={depth > 0 ? '16px' : undefined}>
      <chakra.summary cursor="pointer">
        {name && <chakra.span color="code">{name} </chakra.span>}
        <chakra.span color="muted">{size}</chakra.span>
      </chakra.summary>
      {(all ? members : members.slice(0, most)).map(([n, v]) => (
        <Branch key={n} name={n} value={v} depth={depth + 1} />
      ))}
      {members.length > most && !all && (
        <chakra.button type="button" paddingLeft="16px" color="muted" cursor="pointer" onClick={() => setAll(true)}>
          … {count(members.length - most)} more
        </chakra.button>
      )}
    </chakra.details>
  );
}

function Leaf({ name, value }: { name: string; value: string | number | boolean | null }) {
  return (
    <Box paddingLeft="16px" overflowWrap="anywhere">
      {name && <chakra.span color="code">{name} </chakra.span>}
      <chakra.span color={value === null ? 'faint' : typeof value === 'string' ? 'glass' : 'amber'}>
        {JSON.stringify(value)}
      </chakra.span>
    </Box>
  );
}
