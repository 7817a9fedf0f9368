import { Box, Flex } from '@chakra-ui/react';
import { useState, type ReactNode } from 'react';
import { Bar, BarChart, CartesianGrid, Line, LineChart, ResponsiveContainer, Tooltip, XAxis, YAxis } from 'recharts';

import type { Traffic } from '../../api/hooks';
import { count, local, took, utc } from '../../look/format';

const color = (name: string) => `var(--chakra-colors-${name})`;

interface Series {
  key: 'answered' | 'refused' | 'failed' | 'p50' | 'p95' | 'p99';
  name: string;
  color: string;
  dash?: string;
}

const answers: Series[] = [
  { key: 'answered', name: 'answered', color: 'glass' },
  { key: 'refused', name: 'refused', color: 'amber' },
  { key: 'failed', name: 'failed', color: 'brick' },
];

const times: Series[] = [
  { key: 'p50', name: 'half under', color: 'glass' },
  { key: 'p95', name: '95 of 100', color: 'amber', dash: '6 3' },
  { key: 'p99', name: '99 of 100', color: 'brick', dash: '2 3' },
];

/** What a point of the charts stands for. */
function stepOf(seconds: number): string {
  if (seconds === 60) return 'a minute';
  if (seconds < 3600) return `in ${String(seconds / 60)} minutes`;
  if (seconds < 86_400) return `in ${String(seconds / 3600)} hours`;
  return 'a day';
}

/** The label of a moment on the axis. */
function tick(at: string, over: string): string {
  const d = new Date(at);
  if (over === 'hour' || over === 'day') return d.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' });
  return d.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' });
}

const axis = { fill: color('muted'), style: { fontSize: '12px' } };

/** The axis of time. */
const timeAxis = (over: string) => ({
  dataKey: 'at',
  tick: axis,
  tickLine: false,
  axisLine: { stroke: color('mullion') },
  minTickGap: 48,
  tickFormatter: (at: string) => tick(at, over),
});

/** How many requests there were, by what became of them. */
export function Requests({ traffic: t }: { traffic: Traffic }) {
  return (
    <Framed title={`Requests ${stepOf(t.step)}`} series={answers}>
      <BarChart data={t.points} margin={{ top: 8, right: 0, bottom: 0, left: 0 }} barCategoryGap={1} accessibilityLayer>
        <CartesianGrid vertical={false} stroke={color('mullion')} />
        <XAxis {...timeAxis(t.over)} />
        <YAxis
          orientation="right"
          width={52}
          tick={axis}
          tickLine={false}
          axisLine={false}
          allowDecimals={false}
          tickFormatter={count}
        />
        <Tooltip
          cursor={{ fill: color('sel') }}
          content={({ active, label }) => (
            <Said on={active} at={String(label)} points={t.points} series={answers} write={count} />
          )}
        />
        {answers.map((s) => (
          <Bar key={s.key} dataKey={s.key} stackId="all" fill={color(s.color)} isAnimationActive={false} />
        ))}
      </BarChart>
    </Framed>
  );
}

/** How long answers took. */
export function Times({ traffic: t }: { traffic: Traffic }) {
  const points = t.points.map((p) => (p.p99 === 0 ? { at: p.at } : p));
  return (
    <Framed title="Time to answer" series={times}>
      <LineChart data={points} margin={{ top: 8, right: 0, bottom: 0, left: 0 }} accessibilityLayer>
        <CartesianGrid vertical={false} stroke={color('mullion')} />
        <XAxis {...timeAxis(t.over)} />
        <YAxis
          orientation="right"
          width={64}
          tick={axis}
          tickLine={false}
          axisLine={false}
          tickFormatter={(ms: number) => `${count(ms)} ms`}
        />
        <Tooltip
          cursor={{ stroke: color('stroke') }}
          content={({ active, label }) => (
            <Said on={active} at={String(label)} points={t.points} series={times} write={took} />
          )}
        />
        {times.map((s) => (
          <Line
            key={s.key}
            dataKey={s.key}
            stroke={color(s.color)}
            strokeWidth={1.5}
            strokeDasharray={s.dash}
            dot={false}
            connectNulls
            isAnimationActive={false}
          />
        ))}
      </LineChart>
    </Framed>
  );
}

/** A chart with its title and what its colours and dashes mean. */
function Framed({ title, series, children }: { title: string; series: Series[]; children: ReactNode }) {
  const [size, setSize] = useState({ width: 0, height: 0 });
  return (
    <Flex direction="column" height="100%" padding="12px 16px 8px">
      <Flex gap="18px" align="center" wrap="wrap" fontSize="13px">
        <Box as="h2" fontWeight="600">
          {title}
        </Box>
        {series.map((s) => (
          <Flex key={s.key} align="center" gap="6px" color="muted">
            <svg width="16" height="10" aria-hidden="true">
              {s.key.startsWith('p') ? (
                <path d="M0 5h16" stroke={color(s.color)} strokeWidth="2" strokeDasharray={s.dash} />
              ) : (
                <path d="M3 0h10v10H3z" fill={color(s.color)} />
              )}
            </svg>
            {s.name}
          </Flex>
        ))}
      </Flex>
      <Box flex="1" minHeight="0" marginTop="6px" data-drawn={size.width > 0}>
        <ResponsiveContainer width="100%" height="100%" onResize={(width, height) => setSize({ width, height })}>
          {children}
        </ResponsiveContainer>
      </Box>
    </Flex>
  );
}

interface SaidProps {
  on: boolean | undefined;
  at: string;
  points: Traffic['points'];
  series: Series[];
  write: (n: number) => string;
}

/** What one point says. */
function Said({ on, at, points, series, write }: SaidProps) {
  const point = points.find((p) => p.at === at);
  if (!on || !point) return null;
  return (
    <Box bg="raised" borderWidth="1px" padding="8px 12px" fontSize="13px">
      <Box>{local(at)}</Box>
      <Box color="muted" fontSize="12px" marginBottom="4px">
        {utc(at)}
      </Box>
      {series.map((s) => (
        <Flex key={s.key} gap="14px">
          <Box flex="1" color="muted">
            {s.name}
          </Box>
          {write(point[s.key])}
        </Flex>
      ))}
    </Box>
  );
}
