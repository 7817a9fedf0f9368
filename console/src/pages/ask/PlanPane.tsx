import { Box, chakra, Flex } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';

import { fetchedJSON } from '../../api/client';
import { count, took } from '../../look/format';
import { Code, Scrolled, Waiting } from '../../look/parts';
import { lines, marked, type Explanation, type PlanLine } from './plan';
import { encoded } from './sentence';
import { actAs, type Speaker } from './speaker';

/** The statement that answers the request, and how the database carries it out: where the time goes, and how many rows it reads. */
export function PlanPane({ window, address, speaker }: { window: string; address: string; speaker: Speaker }) {
  const as = actAs(speaker);
  const explained = useQuery({
    queryKey: ['explained', window, address, as],
    queryFn: ({ signal }) =>
      fetchedJSON<Explanation>(`/draft/${window}${encoded(address)}`, {
        headers: { Prefer: 'explain', ...(as ? { 'Act-As': as } : {}) },
        signal,
      }),
  });
  if (!explained.data)
    return <Waiting what="the plan" error={explained.error} again={() => void explained.refetch()} />;
  const e = explained.data;
  return (
    <Flex direction="column" height="100%" data-part="plan">
      <Scrolled label="SQL" maxHeight="50%" borderBottomWidth="1px">
        {e.rules.length > 0 && (
          <Box color="amber" fontSize="12.5px" marginBottom="4px">
            ◆ Underlined: row rules of {speaker.roles.join(' and ')}.
          </Box>
        )}
        <Statement of={e} />
      </Scrolled>
      <Scrolled label="Plan" flex="1">
        <PlanLines head={`one statement, ${took(e.took_ms)}`} share="share of time" lines={lines(e.plan)} />
        <Box color="muted" marginTop="10px">
          {e.advice.length === 0 && 'No index would help.'}
          {e.advice.map((a) => (
            <Box key={a.message} color="amber">
              ◆ {a.message}
            </Box>
          ))}
        </Box>
      </Scrolled>
    </Flex>
  );
}

/** A statement with its arguments; what row rules add to it is underlined. */
function Statement({ of: e }: { of: Explanation }) {
  return (
    <>
      <Code fontSize="12px">
        {marked(e.sql, e.rules).map(({ text, rule }, i) =>
          rule ? (
            <chakra.mark key={i} bg="transparent" color="amber" borderBottomWidth="1px" borderColor="amber">
              {text}
            </chakra.mark>
          ) : (
            text
          ),
        )}
      </Code>
      {e.arguments.length > 0 && (
        <Box color="muted" marginTop="6px">
          {e.arguments.map((a, i) => (
            <chakra.span key={i} fontFamily="mono" fontSize="12px" marginRight="10px">
              ${i + 1} {JSON.stringify(a)}
            </chakra.span>
          ))}
        </Box>
      )}
    </>
  );
}

/** A plan as a picture: a line for each step, what it costs, and the rows that it hands on. */
export function PlanLines({ head, share, lines: list }: { head: string; share: string; lines: PlanLine[] }) {
  return (
    <>
      <Flex color="muted" fontSize="12.5px" marginBottom="4px">
        <chakra.span flex="1">{head}</chakra.span>
        <chakra.span width="90px">{share}</chakra.span>
        <chakra.span width="64px" textAlign="right">
          rows
        </chakra.span>
      </Flex>
      {list.map((l, i) => (
        <PlanRow key={i} line={l} />
      ))}
    </>
  );
}

function PlanRow({ line: l }: { line: PlanLine }) {
  const much = l.share > 0.5;
  return (
    <Flex align="center" fontSize="13px" paddingY="2px" title={[l.says, l.detail].filter(Boolean).join(': ')}>
      <chakra.span
        flex="1"
        minWidth="0"
        paddingLeft={`${String(Math.min(l.depth * 8, 88))}px`}
        paddingRight="8px"
        overflow="hidden"
        textOverflow="ellipsis"
        whiteSpace="nowrap"
      >
        {l.says}
      </chakra.span>
      <Box
        width="84px"
        height="8px"
        bg="unlit"
        marginRight="6px"
        flex="none"
        role="img"
        aria-label={`${(l.share * 100).toFixed(0)} percent of the time`}
      >
        <Box height="100%" width={`${(Math.max(l.share, 0.01) * 100).toFixed(1)}%`} bg={much ? 'amber' : 'glass'} />
      </Box>
      <chakra.span width="64px" textAlign="right" fontFamily="mono" fontSize="12px" flex="none">
        {count(l.rows)}
      </chakra.span>
    </Flex>
  );
}
