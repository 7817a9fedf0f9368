import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'wouter';

import { claimParams } from '../../claims';
import { useGrant, useRule, type Grant, type Model } from '../../api/hooks';
import { Entry, Mono, PaneHead, QuietButton, Waiting } from '../../look/parts';
import type { Crossing } from './Facade';
import { Lamp, saying } from './FourLights';
import { GrantEditor } from './GrantEditor';
import { WhyBox } from './WhyBox';

interface GrantPaneProps {
  window: string;
  model: Model;
  crossing: Crossing;
  claims: Record<string, string>;
  onClaims: (claims: Record<string, string>) => void;
}

/** One crossing, opened: what is granted and why, and how to change it. */
export function GrantPane({ window, model, crossing, claims, onClaims }: GrantPaneProps) {
  const { role, resource } = crossing;
  const grant = useGrant(window, role, resource);
  const [doing, setDoing] = useState<'look' | 'edit' | 'why'>('look');
  if (!grant.data) return <Waiting what="the grant" error={grant.error} />;
  const g = grant.data;
  const ask = new URLSearchParams({ q: `/${resource}?top=20&count=true`, as: role, ...claimParams(claims) });
  return (
    <>
      <PaneHead aside={<Origin grant={g} />}>
        {role} on <Mono>{resource}</Mono>
      </PaneHead>
      <Box padding="16px">
        {g.about && <Box marginBottom="4px">{g.about}</Box>}
        {g.limits.length > 0 && <Box color="muted">Limits: {g.limits.join(', ')}.</Box>}
        {g.claims.map((c) => (
          <chakra.label key={c.name} display="flex" alignItems="center" gap="10px" marginTop="10px" color="muted">
            <span>
              as <Mono color="chalk">{c.name}</Mono>
            </span>
            <Entry
              name={c.name}
              fontFamily="mono"
              placeholder={c.kind}
              flex="1"
              height="30px"
              value={claims[c.name] ?? ''}
              onChange={(e) => onClaims(without({ ...claims, [c.name]: e.target.value }))}
            />
          </chakra.label>
        ))}
      </Box>
      {doing === 'edit' ? (
        <GrantEditor window={window} model={model} grant={g} claims={claims} onDone={() => setDoing('look')} />
      ) : (
        <>
          <Operations window={window} grant={g} claims={claims} />
          {g.warnings.map((w) => (
            <Box key={w} color="amber" padding="10px 16px" borderTopWidth="1px">
              {w}
            </Box>
          ))}
          <Flex gap="10px" padding="14px 16px" borderTopWidth="1px">
            <QuietButton type="button" onClick={() => setDoing('edit')}>
              Edit grant
            </QuietButton>
            <QuietButton asChild display="inline-flex" alignItems="center">
              <Link href={`/ask/${window}?${ask.toString()}`}>Ask as {role}</Link>
            </QuietButton>
            <QuietButton
              type="button"
              aria-pressed={doing === 'why'}
              onClick={() => setDoing(doing === 'why' ? 'look' : 'why')}
            >
              Why …
            </QuietButton>
          </Flex>
          {doing === 'why' && <WhyBox window={window} model={model} crossing={crossing} claims={claims} />}
        </>
      )}
    </>
  );
}

const without = (claims: Record<string, string>) =>
  Object.fromEntries(Object.entries(claims).filter(([, v]) => v !== ''));

function Origin({ grant }: { grant: Grant }) {
  const line = Math.min(...grant.operations.filter((o) => o.line > 0).map((o) => o.line));
  if (grant.from === '') return <span>nothing in the document</span>;
  return (
    <span>
      {grant.from === '*' ? 'by “*”, for all that are not named' : 'its own entry'}
      {Number.isFinite(line) ? `, line ${String(line)}` : ''}
    </span>
  );
}

function Operations({ window, grant, claims }: { window: string; grant: Grant; claims: Record<string, string> }) {
  return grant.operations.map((o) => (
    <Flex key={o.operation} gap="10px" padding="9px 16px" borderTopWidth="1px">
      <Lamp light={o.light} />
      <Box width="64px" flex="none" fontWeight="600">
        {o.operation}
      </Box>
      <Box flex="1" minWidth="0">
        {o.light === 'none' || o.light === 'dark' ? (
          <chakra.span color="muted">{saying[o.light]}</chakra.span>
        ) : (
          <>
            {o.rows && <Mono color="code">{o.rows}</Mono>}
            <Box color="muted">
              <Fields of={o} />
              {Object.entries(o.set).map(([name, value]) => (
                <span key={name}>
                  ; <Mono>{name}</Mono> is set to <Mono>{value}</Mono>
                </span>
              ))}
              {o.rows && o.operation !== 'create' && (
                <Rows window={window} grant={grant} rows={o.rows} claims={claims} />
              )}
            </Box>
          </>
        )}
      </Box>
    </Flex>
  ));
}

/** Which fields, by those that are there or by those that are not, whichever is shorter. */
function Fields({ of: o }: { of: Grant['operations'][number] }) {
  if (o.operation === 'delete') return <span>whole rows</span>;
  const rest = o.possible.filter((f) => !o.fields.includes(f) && !(f in o.set));
  if (rest.length === 0) return <span>all {o.fields.length} fields</span>;
  if (rest.length <= o.fields.length && rest.length <= 4)
    return (
      <span>
        {o.fields.length} of {o.possible.length} fields, not <Mono>{rest.join(', ')}</Mono>
      </span>
    );
  return (
    <span>
      <Mono>{o.fields.join(', ')}</Mono> only
    </span>
  );
}

interface RowsProps {
  window: string;
  grant: Grant;
  rows: string;
  claims: Record<string, string>;
}

/** How many rows a rule covers for the caller that is thought of. */
function Rows({ window, grant, rows, claims }: RowsProps) {
  const rule = useRule(window, grant.role, grant.resource, rows, claims);
  if (rule.data?.rows === undefined || rule.data.of === undefined) return null;
  return (
    <span>
      ; {rule.data.rows.toLocaleString('en')} of {rule.data.of.toLocaleString('en')} rows
    </span>
  );
}
