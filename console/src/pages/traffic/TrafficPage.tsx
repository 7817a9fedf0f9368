import { Box, chakra, Flex, Grid } from '@chakra-ui/react';
import { useSearchParams } from 'wouter';

import { useTraffic, type Traffic, type TrafficChoice } from '../../api/hooks';
import { count, local, took, utc } from '../../look/format';
import {
  Choice,
  Contained,
  Empty,
  Mono,
  Number as NumberCell,
  PaneHead,
  Panes,
  Table,
  Tabs,
  Td,
  Th,
  Waiting,
} from '../../look/parts';
import type { PageProps } from '../../pages';
import { Requests, Times } from './Charts';
import { ShapePane } from './ShapePane';

const spans = { 'The last hour': 'hour', day: 'day', week: 'week', month: 'month' } as const;
type Span = keyof typeof spans;
const statuses = ['answered', 'refused', 'failed'] as const;

/** What callers asked of the live releases: how often, how long it took, what costs most, what was refused and why. */
export default function TrafficPage({ window }: PageProps) {
  const [search, setSearch] = useSearchParams();
  const choice: TrafficChoice = {
    over: Object.values(spans).find((o) => o === search.get('over')) ?? 'hour',
    resource: search.get('resource') ?? '',
    role: search.get('role') ?? '',
    status: statuses.find((s) => s === search.get('status')) ?? '',
  };
  const shape = search.get('shape') ?? '';
  const traffic = useTraffic(window, choice);
  const go = (next: Partial<TrafficChoice> & { shape?: string }) =>
    setSearch(Object.fromEntries(Object.entries({ ...choice, shape, ...next }).filter(([, v]) => v !== '')), {
      replace: true,
    });
  if (!traffic.data) return <Waiting what="the traffic" error={traffic.error} again={() => void traffic.refetch()} />;
  const t = traffic.data;
  return (
    <Grid
      templateColumns="minmax(0, 1fr)"
      templateRows="36px minmax(0, 38fr) minmax(0, 62fr)"
      height="100%"
      data-part="traffic"
    >
      <Filters choice={choice} traffic={t} onChange={go} />
      {t.total === 0 && t.refusals.length === 0 ? (
        <Empty>
          {choice.resource || choice.role || choice.status
            ? 'No request meets these choices.'
            : 'Nobody has asked for anything in this time. What callers ask of the live release shows here within seconds; your own requests to the draft do not.'}
        </Empty>
      ) : (
        <>
          <Box borderBottomWidth="1px" minHeight="0">
            <Panes
              panes={[
                { id: 'requests', size: 50, content: <Requests traffic={t} /> },
                { id: 'times', size: 50, content: <Times traffic={t} /> },
              ]}
            />
          </Box>
          <Panes
            panes={[
              {
                id: 'shapes',
                size: 56,
                content: <Shapes traffic={t} chosen={shape} onChoose={(s) => go({ shape: s })} />,
              },
              {
                id: 'refusals',
                size: 44,
                content: (
                  <Flex direction="column" height="100%">
                    {shape && (
                      <Box flex="2" minHeight="0" borderBottomWidth="1px">
                        <Contained key={shape}>
                          <ShapePane window={window} shape={shape} onClose={() => go({ shape: '' })} />
                        </Contained>
                      </Box>
                    )}
                    <Box flex="1" minHeight="0">
                      <Refusals traffic={t} />
                    </Box>
                  </Flex>
                ),
              },
            ]}
          />
        </>
      )}
    </Grid>
  );
}

interface FiltersProps {
  choice: TrafficChoice;
  traffic: Traffic;
  onChange: (next: Partial<TrafficChoice>) => void;
}

function Filters({ choice, traffic: t, onChange }: FiltersProps) {
  const names = Object.keys(spans) as Span[];
  return (
    <Flex align="center" gap="16px" paddingX="16px" borderBottomWidth="1px" fontSize="13px" whiteSpace="nowrap">
      <Tabs
        label="Over"
        options={names}
        chosen={names.find((n) => spans[n] === choice.over) ?? 'The last hour'}
        onChoose={(n) => onChange({ over: spans[n] })}
      />
      <chakra.span color="muted" flex="1" overflow="hidden" textOverflow="ellipsis">
        {count(t.total)} requests, {count(t.refused)} refused, {count(t.failed)} failed; half under {took(t.p50)}
      </chakra.span>
      {(
        [
          ['resource', t.resources],
          ['role', t.roles],
          ['status', [...statuses]],
        ] as const
      ).map(([what, options]) => (
        <Pick
          key={what}
          what={what}
          value={choice[what]}
          options={options}
          onChoose={(value) => onChange({ [what]: value })}
        />
      ))}
    </Flex>
  );
}

interface PickProps {
  what: string;
  value: string;
  options: readonly string[];
  onChoose: (value: string) => void;
}

function Pick({ what, value, options, onChoose }: PickProps) {
  return (
    <Choice
      aria-label={what.charAt(0).toUpperCase() + what.slice(1)}
      height="24px"
      width="auto"
      color={value ? 'chalk' : 'muted'}
      value={value}
      onChange={(e) => onChoose(e.target.value)}
    >
      <option value="">every {what}</option>
      {value && !options.includes(value) && <option>{value}</option>}
      {options.map((o) => (
        <option key={o}>{o}</option>
      ))}
    </Choice>
  );
}

/** The shapes of requests that the database spent most time on. */
function Shapes({
  traffic: t,
  chosen,
  onChoose,
}: {
  traffic: Traffic;
  chosen: string;
  onChoose: (shape: string) => void;
}) {
  const most = Math.max(...t.shapes.map((s) => s.share), 0.01);
  return (
    <Flex direction="column" height="100%" data-part="shapes">
      <PaneHead note="by their share of the database’s time">Shapes that cost most</PaneHead>
      <Box flex="1" minHeight="0" overflow="auto" tabIndex={-1}>
        <Table>
          <thead>
            <tr>
              <Th>Request</Th>
              <Th textAlign="right">a minute</Th>
              <Th textAlign="right">95 of 100</Th>
              <Th width="120px">share</Th>
            </tr>
          </thead>
          <tbody>
            {t.shapes.map((s) => (
              <chakra.tr key={s.shape} bg={s.shape === chosen ? 'sel' : undefined}>
                <Td>
                  <chakra.button
                    type="button"
                    cursor="pointer"
                    textAlign="left"
                    aria-pressed={s.shape === chosen}
                    title={`${count(s.count)} requests by ${s.roles.join(', ')}`}
                    onClick={() => onChoose(s.shape)}
                  >
                    <Mono>{s.shape}</Mono>
                  </chakra.button>
                </Td>
                <NumberCell>
                  {s.per_minute >= 10 ? count(Math.round(s.per_minute)) : s.per_minute.toFixed(1)}
                </NumberCell>
                <NumberCell>{took(s.p95)}</NumberCell>
                <Td>
                  <Flex align="center" gap="8px" whiteSpace="nowrap">
                    <Box width="60px" height="10px" bg="unlit" flex="none">
                      <Box
                        height="100%"
                        width={`${((s.share / most) * 100).toFixed(1)}%`}
                        bg={s.share > 0.4 ? 'amber' : 'glass'}
                      />
                    </Box>
                    {(s.share * 100).toFixed(0)} %
                  </Flex>
                </Td>
              </chakra.tr>
            ))}
          </tbody>
        </Table>
        {t.shapes.length === 0 && <Empty>No reads in this time.</Empty>}
      </Box>
    </Flex>
  );
}

/** The requests that were refused last, and why. */
function Refusals({ traffic: t }: { traffic: Traffic }) {
  return (
    <Flex direction="column" height="100%" data-part="refusals">
      <PaneHead note="the newest first">Refused lately</PaneHead>
      <Box flex="1" minHeight="0" overflow="auto" tabIndex={-1}>
        {t.refusals.length === 0 && <Empty>Nothing was refused.</Empty>}
        <Table>
          <tbody>
            {t.refusals.map((r, i) => (
              <tr key={`${r.at} ${String(i)}`}>
                <Td whiteSpace="nowrap" color="muted">
                  <time dateTime={r.at} title={utc(r.at)}>
                    {clock(r.at)}
                  </time>
                </Td>
                <Td>
                  <Mono>{r.caller || r.role || 'no token'}</Mono>
                  <Box color="muted">
                    <Mono>
                      {r.method} /{r.path}
                    </Mono>
                    : {r.message}
                  </Box>
                </Td>
                <NumberCell color="brick">{r.status}</NumberCell>
              </tr>
            ))}
          </tbody>
        </Table>
      </Box>
    </Flex>
  );
}

/** The time of day, with the day where it is not today. */
function clock(at: string): string {
  const [then, today] = [new Date(at), new Date()];
  return then.toDateString() === today.toDateString()
    ? then.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' })
    : local(at);
}
