import { Box, chakra } from '@chakra-ui/react';

import type { Schemas } from '../../api/client';
import { counted } from '../../look/format';
import { Mono, Scrolled, Section, Table, Td, Th } from '../../look/parts';
import { Cell } from './Cell';
import type { Answer, Json } from './useAnswer';

/** What became of each row: a sign and a word. */
const signs: Record<string, [sign: string, color: string]> = {
  created: ['+', 'glass'],
  linked: ['+', 'glass'],
  changed: ['◆', 'amber'],
  deleted: ['▲', 'brick'],
  hidden: ['▲', 'brick'],
  unlinked: ['▲', 'brick'],
  unchanged: ['', 'muted'],
};

/** What a rehearsed write did to each row, before and after. */
export function Changes({ done }: { done: NonNullable<Answer['rehearsed']> }) {
  return (
    <Scrolled label="Rows before and after" height="100%" padding="0" data-part="changes">
      {done.rows.length === 0 ? (
        <Section border="none" color="muted">
          No row that can be shown was written.
        </Section>
      ) : (
        <Table fontSize="13px">
          <thead>
            <tr>
              <Th>Row</Th>
              <Th>Field</Th>
              <Th>Before</Th>
              <Th>After</Th>
            </tr>
          </thead>
          <tbody>
            {done.rows.map((row) => (
              <RowLines key={row.row} row={row} />
            ))}
          </tbody>
        </Table>
      )}
      {(done.more > 0 || done.lasting.length > 0) && (
        <Section border="none" color="muted">
          {done.more > 0 && <Box>{counted(done.more, 'more row')} would be written, not shown here.</Box>}
          {done.lasting.map((what) => (
            <Box key={what}>Not undone: {what}.</Box>
          ))}
        </Section>
      )}
    </Scrolled>
  );
}

function RowLines({ row }: { row: Schemas['RowChange'] }) {
  const [sign, color] = signs[row.became] ?? ['', 'muted'];
  const head = (
    <chakra.span whiteSpace="nowrap">
      <chakra.span color={color}>
        {sign} {row.became === 'changed' ? '' : row.became}
      </chakra.span>{' '}
      <Mono>{row.row}</Mono>
    </chakra.span>
  );
  const fields = row.fields ?? [];
  if (fields.length === 0)
    return (
      <tr>
        <Td colSpan={4}>
          {head}
          {row.became === 'hidden' && (
            <chakra.span color="muted"> The row is there, but this role may not read it any more.</chakra.span>
          )}
        </Td>
      </tr>
    );
  return fields.map((f, i) => (
    <chakra.tr key={f.name} css={i + 1 < fields.length ? { '& td': { borderBottom: 'none' } } : undefined}>
      <Td>{i === 0 && head}</Td>
      <Td fontFamily="mono">{f.name}</Td>
      <Td>{row.became !== 'created' && <Cell value={f.before as Json} />}</Td>
      <Td>{row.became !== 'deleted' && <Cell value={f.after as Json} />}</Td>
    </chakra.tr>
  ));
}
