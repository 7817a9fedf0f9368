import { Box, chakra, Flex } from '@chakra-ui/react';
import { useRef } from 'react';

import { Refused } from '../../api/client';
import { bytes, count, counted, took } from '../../look/format';
import { Bar, Code, Problem, Scrolled, Tabs, Td, Th } from '../../look/parts';
import { useRows } from '../../look/useRows';
import { Cell } from './Cell';
import { Changes } from './Changes';
import { Tree } from './Tree';
import type { Answer } from './useAnswer';

const views = ['Table', 'Tree', 'Text', 'Headers'] as const;
const rehearsedViews = ['Changes', ...views] as const;

interface AnswerPaneProps {
  answer: Answer | undefined;
  failure: Error | null;
  /** The view that is chosen; empty: the one that the answer begins with. */
  view: string;
  onView: (view: string) => void;
}

/** The answer: how it went, then what a rehearsal changed, its rows, its tree, its text or its headers. */
export function AnswerPane({ answer, failure, view: chosen, onView }: AnswerPaneProps) {
  if (failure)
    return (
      <Box padding="20px" data-part="answer">
        <Problem>
          {failure instanceof Refused ? '' : 'The service does not answer: '}
          {failure.message}
        </Problem>
      </Box>
    );
  if (!answer)
    return (
      <Box padding="20px" color="muted">
        Asking …
      </Box>
    );
  const changed = answer.rehearsed && answer.error === null ? answer.rehearsed : null;
  const options = changed ? rehearsedViews : views;
  const view = options.find((v) => v === chosen) ?? options[0];
  return (
    <Flex direction="column" height="100%" data-part="answer">
      <Bar gap="16px">
        <chakra.span color={answer.status < 400 ? 'glass' : 'brick'} fontWeight="600">
          {answer.status} {answer.phrase}
        </chakra.span>
        <chakra.span flex="1" overflow="hidden" textOverflow="ellipsis">
          {summary(answer)}
        </chakra.span>
        <Tabs label="View of the answer" options={options} chosen={view} onChoose={onView} />
      </Bar>
      <Box flex="1" minHeight="0">
        {view === 'Changes' && changed && <Changes done={changed} />}
        {view === 'Table' && <Rows answer={answer} />}
        {view === 'Tree' && (
          <Scrolled label="Answer" height="100%">
            <Tree text={answer.text} />
          </Scrolled>
        )}
        {view === 'Text' && (
          <Scrolled label="Answer" height="100%">
            <Code>{answer.text}</Code>
          </Scrolled>
        )}
        {view === 'Headers' && (
          <Scrolled label="Answer" height="100%">
            <Code>{answer.headers.map(([n, v]) => `${n}: ${v}`).join('\n')}</Code>
          </Scrolled>
        )}
      </Box>
    </Flex>
  );
}

function summary(a: Answer): string {
  const parts: string[] = [];
  if (a.rows)
    parts.push(
      a.total === null ? counted(a.rows.length, 'row') : `${count(a.rows.length)} of ${counted(a.total, 'row')}`,
    );
  const written = a.headers.find(([name]) => name === 'rows-affected')?.[1];
  if (written !== undefined) parts.push(`${counted(Number(written), 'row')} ${a.rehearsed ? 'rehearsed' : 'written'}`);
  if (a.rehearsed) parts.push('rolled back');
  parts.push(took(a.milliseconds), bytes(a.bytes));
  return parts.join(', ');
}

const rowHeight = 30;

function Rows({ answer }: { answer: Answer }) {
  const scroller = useRef<HTMLDivElement>(null);
  const rows = answer.rows ?? [];
  const { rows: shown, before, after } = useRows(rows.length, scroller, rowHeight);
  if (answer.error !== null)
    return (
      <Box padding="20px">
        <Problem>{answer.error}</Problem>
      </Box>
    );
  const first = rows[0];
  if (!first)
    return (
      <Box padding="20px" color="muted">
        {answer.status === 204 ? 'No rows come back from this.' : 'No rows meet this.'}
      </Box>
    );
  const columns = Object.keys(first).filter((name) => !name.includes('@'));
  const sample = rows.slice(0, 100);
  const right = new Set(columns.filter((name) => sample.some((r) => typeof r[name] === 'number')));
  return (
    <Box ref={scroller} height="100%" overflow="auto" tabIndex={0} role="group" aria-label="Rows of the answer">
      <chakra.table width="100%" borderCollapse="collapse" fontSize="13px">
        <thead>
          <tr>
            {columns.map((name) => (
              <Th key={name} fontFamily="mono" textAlign={right.has(name) ? 'right' : 'left'}>
                {name}
              </Th>
            ))}
          </tr>
        </thead>
        <tbody>
          {before > 0 && <chakra.tr height={`${String(before)}px`} />}
          {shown.map((i) => (
            <chakra.tr key={i} height={`${String(rowHeight)}px`}>
              {columns.map((name) => (
                <Td
                  key={name}
                  padding="4px 16px"
                  textAlign={right.has(name) ? 'right' : 'left'}
                  fontFamily={right.has(name) ? 'mono' : undefined}
                  whiteSpace="nowrap"
                  maxWidth="360px"
                  overflow="hidden"
                  textOverflow="ellipsis"
                >
                  <Cell value={rows[i]?.[name]} />
                </Td>
              ))}
            </chakra.tr>
          ))}
          {after > 0 && <chakra.tr height={`${String(after)}px`} />}
        </tbody>
      </chakra.table>
    </Box>
  );
}
