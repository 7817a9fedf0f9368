import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import { usePublish, type Release } from '../../api/hooks';
import {
  Empty,
  MainButton,
  Mono,
  PaneHead,
  Problem,
  QuietButton,
  Section,
  Sign,
  Table,
  Td,
  Tick,
  When,
} from '../../look/parts';
import { withoutFlags } from './words';

interface HistoryProps {
  window: string;
  releases: Release[];
  chosen: number | undefined;
  onChoose: (release: number) => void;
  onCompare: (from: string, to: string) => void;
}

/** The releases, the newest first: what each changed, its description, and how to go back to one. */
export function History({ window, releases, chosen, onChoose, onCompare }: HistoryProps) {
  const one = releases.find((r) => r.number === chosen);
  return (
    <Box data-part="history">
      <PaneHead>Releases</PaneHead>
      {releases.length === 0 && <Empty>None yet.</Empty>}
      <Table>
        <tbody>
          {releases.map((r) => (
            <chakra.tr key={r.number} bg={r.number === chosen ? 'sel' : undefined}>
              <Td whiteSpace="nowrap">
                <Flex align="center" gap="8px">
                  <Box width="10px">{r.live && <Sign of="live" />}</Box>
                  <chakra.button
                    type="button"
                    cursor="pointer"
                    aria-pressed={r.number === chosen}
                    aria-label={`Release ${String(r.number)}${r.live ? ', live' : ''}`}
                    onClick={() => onChoose(r.number)}
                  >
                    {r.number}
                  </chakra.button>
                </Flex>
              </Td>
              <Td whiteSpace="nowrap">
                <When at={r.at} exact />
              </Td>
              <Td color={r.number === chosen ? 'chalk' : 'muted'}>
                {r.note || (r.restores ? `restores ${String(r.restores)}` : 'no note')}
                <Box fontSize="12.5px">by {r.by.split('@')[0]}</Box>
              </Td>
            </chakra.tr>
          ))}
        </tbody>
      </Table>
      {one && <OneRelease key={one.number} window={window} release={one} onCompare={onCompare} />}
    </Box>
  );
}

interface OneReleaseProps {
  window: string;
  release: Release;
  onCompare: (from: string, to: string) => void;
}

function OneRelease({ window, release: r, onCompare }: OneReleaseProps) {
  const publish = usePublish(window);
  const [restoring, setRestoring] = useState(false);
  const [breaking, setBreaking] = useState(false);
  return (
    <Section data-part="release">
      <Flex gap="8px" wrap="wrap">
        <QuietButton type="button" onClick={() => onCompare(String(r.number), '')}>
          Compare with the draft
        </QuietButton>
        {r.number > 1 && (
          <QuietButton type="button" onClick={() => onCompare(String(r.number - 1), String(r.number))}>
            What it changed
          </QuietButton>
        )}
        <QuietButton asChild lineHeight="32px">
          <a href={`/describe/${window}/${String(r.number)}`}>Description of {r.number}</a>
        </QuietButton>
        {!r.live && (
          <QuietButton type="button" onClick={() => setRestoring(!restoring)}>
            Restore …
          </QuietButton>
        )}
      </Flex>
      {restoring && (
        <Box marginTop="12px">
          <Box marginBottom="8px">
            The document of release <Mono>{r.number}</Mono> is published again as a new release, and live callers are
            answered by it at once. The draft stays as it is.
          </Box>
          {publish.error && (
            <>
              <Problem>{withoutFlags(publish.error.message)}</Problem>
              <chakra.label display="flex" gap="8px" alignItems="baseline" marginY="8px">
                <Tick checked={breaking} onChange={(e) => setBreaking(e.target.checked)} />
                <span>I accept that it breaks callers</span>
              </chakra.label>
            </>
          )}
          <MainButton
            type="button"
            disabled={publish.isPending}
            onClick={() =>
              publish.mutate(
                { restore: r.number, ...(breaking ? { allow_breaking: true, allow_widening: true } : {}) },
                { onSuccess: () => setRestoring(false) },
              )
            }
          >
            Restore release {r.number}
          </MainButton>
        </Box>
      )}
    </Section>
  );
}
