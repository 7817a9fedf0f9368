import { Box, chakra, Flex, Grid } from '@chakra-ui/react';
import { useState } from 'react';

import { Problem } from '../../look/parts';
import type { Answer, Json, Row } from './useAnswer';

const views = ['Table', 'Text', 'Headers'] as const;

/** The answer: how it went, then its rows, its text or its headers. */
export function AnswerPane({ answer, failure }: { answer: Answer | undefined; failure: string | undefined }) {
  const [view, setView] = useState<(typeof views)[number]>('Table');
  if (failure !== undefined)
    return (
      <Box padding="20px">
        <Problem>The service does not answer: {failure}</Problem>
      </Box>
    );
  if (!answer)
    return (
      <Box padding="20px" color="muted">
        Asking …
      </Box>
    );
  return (
    <Grid templateRows="36px minmax(0, 1fr)" height="100%" data-part="answer">
      <Flex align="center" gap="16px" paddingX="16px" borderBottomWidth="1px" fontSize="12.5px" color="muted">
        <chakra.span color={answer.status < 400 ? 'glass' : 'brick'} fontWeight="600">
          {answer.status} {answer.phrase}
        </chakra.span>
        <span>{summary(answer)}</span>
        <Box flex="1" />
        {views.map((v) => (
          <chakra.button
            key={v}
            type="button"
            aria-pressed={v === view}
            cursor="pointer"
            height="100%"
            color={v === view ? 'chalk' : 'muted'}
            fontWeight={v === view ? 600 : 400}
            borderBottomWidth="2px"
            borderColor={v === view ? 'lit' : 'transparent'}
            onClick={() => setView(v)}
          >
            {v}
          </chakra.button>
        ))}
      </Flex>
      <Box overflow="auto">
        {view === 'Table' && <Rows answer={answer} />}
        {view === 'Text' && <Mono>{answer.text}</Mono>}
        {view === 'Headers' && <Mono>{answer.headers.map(([n, v]) => `${n}: ${v}`).join('\n')}</Mono>}
      </Box>
    </Grid>
  );
}

const Mono = chakra('pre', {
  base: {
    fontFamily: 'mono',
    fontSize: '12.5px',
    padding: '14px 16px',
    color: 'code',
    whiteSpace: 'pre-wrap',
    wordBreak: 'break-word',
  },
});

function summary(a: Answer): string {
  const parts: string[] = [];
  if (a.rows) {
    const n = a.rows.length.toLocaleString('en');
    parts.push(
      a.total === null
        ? `${n} ${a.rows.length === 1 ? 'row' : 'rows'}`
        : `${n} of ${a.total.toLocaleString('en')} rows`,
    );
  }
  const written = a.headers.find(([name]) => name === 'rows-affected')?.[1];
  const rehearsed = a.headers.some(([name]) => name === 'rehearsed');
  if (written !== undefined)
    parts.push(
      `${Number(written).toLocaleString('en')} ${written === '1' ? 'row' : 'rows'} ${rehearsed ? 'rehearsed' : 'written'}`,
    );
  if (rehearsed) parts.push('rolled back');
  parts.push(
    `${a.milliseconds.toFixed(1)} ms`,
    a.bytes < 1024 ? `${String(a.bytes)} B` : `${(a.bytes / 1024).toFixed(1)} KB`,
  );
  return parts.join(', ');
}

function Rows({ answer }: { answer: Answer }) {
  if (answer.error !== null)
    return (
      <Box padding="20px">
        <Problem>{answer.error}</Problem>
      </Box>
    );
  const rows = answer.rows ?? [];
  const first = rows[0];
  if (!first)
    return (
      <Box padding="20px" color="muted">
        {answer.status === 204 ? 'No rows come back from this.' : 'No rows meet this.'}
      </Box>
    );
  const columns = Object.keys(first).filter((name) => !name.includes('@'));
  const right = new Set(columns.filter((name) => rows.some((r) => typeof r[name] === 'number')));
  return (
    <chakra.table width="100%" borderCollapse="collapse" fontSize="13px">
      <thead>
        <tr>
          {columns.map((name) => (
            <chakra.th
              key={name}
              position="sticky"
              top="0"
              bg="pane"
              fontFamily="mono"
              fontWeight="500"
              color="muted"
              textAlign={right.has(name) ? 'right' : 'left'}
              padding="5px 16px"
              whiteSpace="nowrap"
            >
              {name}
            </chakra.th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((row, i) => (
          <chakra.tr key={i} borderTopWidth="1px">
            {columns.map((name) => (
              <chakra.td
                key={name}
                padding="4px 16px"
                textAlign={right.has(name) ? 'right' : 'left'}
                fontFamily={right.has(name) ? 'mono' : undefined}
                whiteSpace="nowrap"
                maxWidth="360px"
                overflow="hidden"
                textOverflow="ellipsis"
                verticalAlign="top"
              >
                <Cell value={row[name]} />
              </chakra.td>
            ))}
          </chakra.tr>
        ))}
      </tbody>
    </chakra.table>
  );
}

const instant = /^\d{4}-\d\d-\d\dT[\d:.]+Z$/;

function Cell({ value }: { value: Json | undefined }) {
  if (value === null || value === undefined) return <chakra.span color="faint">none</chakra.span>;
  if (Array.isArray(value) && value.length === 0) return <chakra.span color="faint">none</chakra.span>;
  const text = shown(value);
  return <span title={text}>{text}</span>;
}

/** A value in a cell: instants without their letters, rows by what tells them apart. */
function shown(value: Json): string {
  if (typeof value === 'string') return instant.test(value) ? value.replace('T', ' ').replace(/(:00)?Z$/, '') : value;
  if (Array.isArray(value)) return value.map(shown).join(', ');
  if (typeof value === 'object' && value !== null) return named(value);
  return String(value);
}

function named(row: Row): string {
  if (typeof row.name === 'string') return [row.name, row.flag].filter((v) => typeof v === 'string').join(' ');
  return Object.entries(row)
    .filter(([name, v]) => v !== null && !name.startsWith('@'))
    .map(([, v]) => v)
    .slice(0, 4)
    .map(shown)
    .join(' ');
}
