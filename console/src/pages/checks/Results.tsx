import { Box, chakra, Flex } from '@chakra-ui/react';
import { useRef } from 'react';

import type { CheckResult } from '../../api/hooks';
import { count, took } from '../../look/format';
import { Entry, Mono, Tick } from '../../look/parts';
import { useAddress } from '../../look/useAddress';
import { useRows } from '../../look/useRows';

interface ResultsProps {
  results: CheckResult[];
  chosen: string | undefined;
  onChoose: (check: string) => void;
}

/** From how many results on there is an entry to find one. */
const many = 20;

interface Line {
  key: string;
  check: string;
  says: string;
  request?: string;
  status?: number;
  passed: boolean;
  skipped: boolean;
  seconds: number;
  step: boolean;
}

/** A check with its steps, one below the other. */
function linesOf(r: CheckResult): Line[] {
  const check = r.check ?? '';
  const own: Line = {
    key: check,
    check,
    says: check,
    passed: r.passed ?? false,
    skipped: !!r.skipped,
    seconds: r.seconds ?? 0,
    step: false,
  };
  return [
    own,
    ...(r.steps ?? []).map((s, i) => ({
      ...own,
      key: `${check} ${String(i)}`,
      says: s.step.replaceAll('-', ' '),
      request: s.request,
      status: s.status,
      passed: s.passed,
      skipped: false,
      seconds: s.seconds,
      step: true,
    })),
  ];
}

/** The results of a suite, a line for each check and for each step of one. */
export function Results({ results, chosen, onChoose }: ResultsProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const [search, change] = useAddress();
  const typed = search.get('find') ?? '';
  const failedOnly = search.has('failed');
  const failed = results.filter((r) => !r.passed).length;
  const lines = results
    .filter((r) => (!failedOnly || !r.passed) && (r.check ?? '').includes(typed.trim()))
    .flatMap(linesOf);
  const { rows, before, after } = useRows(lines.length, scroller, 31);
  return (
    <Flex direction="column" height="100%" fontSize="13px">
      {results.length > many && (
        <Flex gap="14px" align="center" padding="6px 16px" borderBottomWidth="1px">
          <Entry
            aria-label="Find a check"
            placeholder="Find …"
            height="26px"
            width="200px"
            value={typed}
            onChange={(e) => change({ find: e.target.value })}
          />
          {failed > 0 && (
            <chakra.label display="flex" gap="8px" alignItems="center">
              <Tick checked={failedOnly} onChange={(e) => change({ failed: e.target.checked ? 'only' : '' })} />
              only the {count(failed)} that failed
            </chakra.label>
          )}
        </Flex>
      )}
      <Box ref={scroller} flex="1" minHeight="0" overflow="auto">
        {before > 0 && <Box height={`${String(before)}px`} />}
        {rows.map((i) => {
          const l = lines[i];
          return (
            l && (
              <chakra.button
                key={l.key}
                type="button"
                display="flex"
                width="100%"
                height="31px"
                alignItems="center"
                gap="10px"
                paddingX="16px"
                paddingLeft={l.step ? '32px' : '16px'}
                textAlign="left"
                borderBottomWidth="1px"
                cursor="pointer"
                bg={l.check === chosen && !l.step ? 'sel' : undefined}
                _hover={{ bg: 'raised' }}
                aria-pressed={l.check === chosen}
                onClick={() => onChoose(l.check)}
              >
                <Outcome passed={l.passed} skipped={l.skipped} />
                <chakra.span
                  flex="1"
                  minWidth="0"
                  overflow="hidden"
                  textOverflow="ellipsis"
                  whiteSpace="nowrap"
                  fontWeight={l.step ? 400 : 500}
                  title={l.says}
                >
                  {l.says}
                </chakra.span>
                {l.request && (
                  <Mono
                    color="muted"
                    flex="1"
                    minWidth="0"
                    overflow="hidden"
                    textOverflow="ellipsis"
                    whiteSpace="nowrap"
                    title={l.request}
                  >
                    {l.request}
                  </Mono>
                )}
                {l.status !== undefined && <chakra.span color={l.passed ? 'glass' : 'brick'}>{l.status}</chakra.span>}
                <chakra.span
                  color={l.check === chosen && !l.step ? 'chalk' : 'muted'}
                  width="62px"
                  textAlign="right"
                  whiteSpace="nowrap"
                >
                  {took(l.seconds * 1000)}
                </chakra.span>
              </chakra.button>
            )
          );
        })}
        {after > 0 && <Box height={`${String(after)}px`} />}
        <Box padding="14px 16px" color="muted">
          {count(results.length - failed)} passed, {count(failed)} failed. Nothing lasted.
        </Box>
      </Box>
    </Flex>
  );
}

function Outcome({ passed, skipped }: { passed: boolean; skipped: boolean }) {
  if (skipped)
    return (
      <chakra.span color="amber" role="img" aria-label="skipped">
        ◆
      </chakra.span>
    );
  return (
    <chakra.span color={passed ? 'glass' : 'brick'} role="img" aria-label={passed ? 'passed' : 'failed'}>
      {passed ? '✓' : '▲'}
    </chakra.span>
  );
}
