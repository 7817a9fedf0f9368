import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'wouter';

import { useDiscard, usePublish, useRuns, type Difference, type Window } from '../../api/hooks';
import { count, counted } from '../../look/format';
import {
  Entry,
  Form,
  LongEntry,
  MainButton,
  Mono,
  PaneHead,
  Problem,
  QuietButton,
  Section,
  Tick,
  When,
} from '../../look/parts';
import { withoutFlags } from './words';

interface PublishPaneProps {
  window: Window;
  difference: Difference | undefined;
  failed: Error | null;
}

/** Publishes the draft: what holds, what breaks and must be accepted, a note, and one button. */
export function PublishPane({ window: w, difference, failed }: PublishPaneProps) {
  const publish = usePublish(w.name);
  const discard = useDiscard(w.name);
  const [note, setNote] = useState('');
  const [breaking, setBreaking] = useState(false);
  const [widening, setWidening] = useState(false);
  const [skip, setSkip] = useState('');
  const [leaving, setLeaving] = useState(false);
  const changes = difference?.changes ?? [];
  const breaks = changes.filter((c) => c.effect === 'breaking').length;
  const widens = changes.filter((c) => c.widens).length;
  const nothing = w.live_release > 0 && difference && !difference.text && !difference.catalog;
  const next = w.live_release + 1;
  const refused = publish.error instanceof Error && 'code' in publish.error ? String(publish.error.code) : '';
  if (publish.data && nothing) return <Published window={w.name} number={publish.data.number} />;
  return (
    <Box data-part="publish">
      <PaneHead>Publish as release {next}</PaneHead>
      <Section>
        <Line of={failed ? 'wrong' : 'good'}>
          {failed
            ? 'The draft does not fit the database'
            : difference
              ? 'Valid for the database as it is now'
              : 'Looking …'}
        </Line>
        <LastChecks window={w.name} />
        {w.live_release === 0 && <Line of="good">Nobody is answered yet, so nobody can be broken</Line>}
        {breaks > 0 && <Line of="wrong">{counted(breaks, 'change breaks', 'changes break')} callers</Line>}
        {widens > 0 && (
          <Line of="amber">{counted(widens, 'change gives', 'changes give')} a role what is new in the database</Line>
        )}
        {nothing && <Line of="amber">Nothing has changed since release {w.live_release}</Line>}
        <Form
          marginTop="10px"
          onSubmit={() => {
            publish.mutate({
              note,
              ...(breaking ? { allow_breaking: true } : {}),
              ...(widening ? { allow_widening: true } : {}),
              ...(skip ? { skip_checks: skip } : {}),
            });
          }}
        >
          <LongEntry
            aria-label="Note"
            name="note"
            rows={2}
            placeholder="What callers get from it, for the history"
            value={note}
            onChange={(e) => setNote(e.target.value)}
          />
          {breaks > 0 && (
            <chakra.label display="flex" gap="8px" alignItems="baseline">
              <Tick name="breaking" checked={breaking} onChange={(e) => setBreaking(e.target.checked)} />
              <span>
                I accept the {breaks === 1 ? 'change that breaks' : `${count(breaks)} changes that break`} callers
              </span>
            </chakra.label>
          )}
          {widens > 0 && (
            <chakra.label display="flex" gap="8px" alignItems="baseline">
              <Tick name="widening" checked={widening} onChange={(e) => setWidening(e.target.checked)} />
              <span>Roles may have what is new in the database</span>
            </chakra.label>
          )}
          {publish.error && <Problem>{withoutFlags(publish.error.message)}</Problem>}
          {refused === 'release.checks' && (
            <label>
              To publish nevertheless, say why; the reason goes into the audit
              <Entry name="skip" value={skip} onChange={(e) => setSkip(e.target.value)} />
            </label>
          )}
          <Flex gap="10px">
            <MainButton
              type="submit"
              disabled={
                publish.isPending || !difference || !!nothing || (breaks > 0 && !breaking) || (widens > 0 && !widening)
              }
            >
              {publish.isPending ? 'Publishing …' : `Publish release ${String(next)}`}
            </MainButton>
            {w.live_release > 0 && !nothing && (
              <QuietButton type="button" onClick={() => setLeaving(!leaving)}>
                Discard draft …
              </QuietButton>
            )}
          </Flex>
          {leaving && (
            <Box>
              <Box marginBottom="8px" color="muted">
                The draft becomes what is live, release {w.live_release}. Its versions stay in the history.
              </Box>
              <QuietButton
                type="button"
                color="brick"
                onClick={() => discard.mutate(undefined, { onSuccess: () => setLeaving(false) })}
              >
                Discard {counted(changes.length, 'change')}
              </QuietButton>
            </Box>
          )}
        </Form>
      </Section>
    </Box>
  );
}

function Published({ window, number }: { window: string; number: number }) {
  const base = `${location.origin}/api/${window}`;
  return (
    <Box data-part="publish">
      <PaneHead>Published</PaneHead>
      <Section>
        <Line of="good">Release {number} is live</Line>
        <Box marginTop="10px">Callers are answered at</Box>
        <Mono color="code" userSelect="all">
          {base}
        </Mono>
        <Box marginTop="10px">
          <Link href={`/callers/${window}?add=client`}>
            <chakra.span color="code">Give a program access</chakra.span>
          </Link>
          {' · '}
          <Link href={`/description/${window}`}>
            <chakra.span color="code">Hand out the description</chakra.span>
          </Link>
          {' · '}
          <Link href={`/traffic/${window}`}>
            <chakra.span color="code">Watch the traffic</chakra.span>
          </Link>
        </Box>
      </Section>
    </Box>
  );
}

function LastChecks({ window }: { window: string }) {
  const last = useRuns(window).data?.find((r) => r.ended_at && r.on === 'draft');
  if (!last)
    return (
      <Line of="amber">
        Not checked yet:{' '}
        <Link href={`/checks/${window}`}>
          <chakra.span color="code">run the checks</chakra.span>
        </Link>
      </Line>
    );
  return (
    <Line of={last.failed > 0 ? 'wrong' : 'good'}>
      {last.failed > 0
        ? `${count(last.failed)} of ${counted(last.failed + last.passed, 'check')} failed `
        : `${counted(last.passed, 'check')} passed `}
      <chakra.span color="muted">
        <When at={last.at} />
      </chakra.span>
    </Line>
  );
}

function Line({ of, children }: { of: 'good' | 'wrong' | 'amber'; children: React.ReactNode }) {
  const mark = { good: '✓', wrong: '▲', amber: '◆' }[of];
  const color = { good: 'glass', wrong: 'brick', amber: 'amber' }[of];
  return (
    <Flex gap="8px" paddingY="2px">
      <chakra.span color={color} aria-hidden="true">
        {mark}
      </chakra.span>
      <span>{children}</span>
    </Flex>
  );
}
