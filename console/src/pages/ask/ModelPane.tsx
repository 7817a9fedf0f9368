import { Box, chakra } from '@chakra-ui/react';

import { Empty, Tick } from '../../look/parts';
import type { Model } from '../../api/hooks';
import { target, type Sentence } from './sentence';
import type { Speaker } from './speaker';

interface ModelPaneProps {
  model: Model;
  sentence: Sentence;
  speaker: Speaker;
  onChange: (next: Sentence) => void;
}

/** The fields of the resource: which are in the answer, which the role may not read. */
export function ModelPane({ model, sentence: s, speaker, onChange }: ModelPaneProps) {
  const resource = target(model, s.resource)?.resource;
  if (!resource) return <Empty>The path leads to no resource whose fields can be chosen here.</Empty>;
  const roles = model.roles.filter((r) => speaker.roles.includes(r.name));
  const readable = resource.fields
    .map((f) => f.name)
    .filter((f) => speaker.roles.length === 0 || roles.some((r) => r.reads[resource.name]?.includes(f)));
  const all = s.select.length === 0;
  const toggle = (name: string) => {
    const now = all ? readable : s.select;
    const next = now.includes(name)
      ? now.filter((n) => n !== name)
      : resource.fields.map((f) => f.name).filter((n) => now.includes(n) || n === name);
    onChange({ ...s, select: next.length === readable.length ? [] : next });
  };
  return (
    <Box overflow="auto" height="100%" fontSize="13px">
      <Box padding="10px 16px">
        <Box color="muted" marginBottom="6px">
          {all ? 'All in the answer.' : `${String(s.select.length)} of ${String(readable.length)} in the answer.`}
        </Box>
        {resource.about && (
          <Box color="muted" marginBottom="8px">
            {resource.about}
          </Box>
        )}
        {resource.fields.map((f) => (
          <chakra.label key={f.name} display="flex" gap="8px" alignItems="baseline" paddingY="2px" title={f.about}>
            <Tick
              checked={readable.includes(f.name) && (all || s.select.includes(f.name))}
              disabled={!readable.includes(f.name)}
              onChange={() => toggle(f.name)}
            />
            <chakra.span fontFamily="mono" fontSize="12.5px" color={readable.includes(f.name) ? 'chalk' : 'muted'}>
              {f.name}
            </chakra.span>
            <chakra.span flex="1" textAlign="right" color="muted" whiteSpace="nowrap">
              {readable.includes(f.name) ? f.kind : 'not for this role'}
            </chakra.span>
          </chakra.label>
        ))}
      </Box>
    </Box>
  );
}
