import { Box, chakra, Flex } from '@chakra-ui/react';

import { useRun, useRuns, useSuites, type CheckResult, type Run } from '../../api/hooks';
import { count, counted, local, took } from '../../look/format';
import {
  Empty,
  MainButton,
  Pane,
  Panes,
  Problem,
  QuietButton,
  Section,
  TextButton,
  Waiting,
  When,
} from '../../look/parts';
import { useAddress } from '../../look/useAddress';
import type { PageProps } from '../../pages';
import { Failure } from './Failure';
import { Results } from './Results';
import { SuiteEditor } from './SuiteEditor';
import { useRunning, type Running } from './useRunning';

/** Suites that follow from the document and the description; nobody writes them. */
const given: Record<string, string> = {
  access: 'every role, resource and operation is tried',
  contract: 'every answer is as described',
  edges: 'bad requests get clear refusals',
};

/** Suites of checks, their runs, and what failed. */
export default function ChecksPage({ window }: PageProps) {
  const [search, change] = useAddress();
  const suites = useSuites(window);
  const runs = useRuns(window);
  const running = useRunning(window);
  const shown = Number(search.get('run')) || runs.data?.[0]?.id;
  const run = useRun(window, running.results ? undefined : shown);
  if (!suites.data || !runs.data)
    return <Waiting what="the suites" error={suites.error ?? runs.error} again={() => void suites.refetch()} />;
  const names = [...suites.data.map((s) => s.name), ...Object.keys(given)];
  const results = running.results ?? run.data?.results ?? [];
  const suite = search.get('suite') ?? results.find((r) => !r.passed)?.suite ?? names[0] ?? '';
  const editing = search.has('edit') || search.has('new');
  /** Another suite is shown, in the same run. */
  const choose = (next: string) => change({ suite: next, check: '', find: '', failed: '', edit: '', new: '' });
  const begin = (list: string[]) => {
    change({ run: '', check: '', suite: list.length === 1 || editing ? suite : '' }); // what is shown is the run that begins
    running.start(list);
  };
  const ofSuite = results.filter((r) => r.suite === suite);
  const check = search.get('check') ?? (ofSuite.find((r) => !r.passed) ?? ofSuite[0])?.check;
  const open = ofSuite.find((r) => r.check === check);
  return (
    <Panes
      panes={[
        {
          id: 'suites',
          size: 22,
          min: 16,
          content: (
            <Pane
              part="suites"
              title="Suites"
              aside={
                <MainButton type="button" height="26px" disabled={running.on} onClick={() => begin(names)}>
                  Run all
                </MainButton>
              }
            >
              {names.map((name) => (
                <SuiteLine
                  key={name}
                  name={name}
                  about={given[name]}
                  chosen={name === suite}
                  results={results.filter((r) => r.suite === name)}
                  onChoose={() => choose(name)}
                />
              ))}
              <Section color="muted" border="none">
                The last three are written by nobody: they follow from the document and the description. Everything runs
                in rehearsals, so nothing lasts.
                <Box marginTop="10px">
                  <TextButton onClick={() => change({ new: 'suite', edit: '' })}>+ suite</TextButton>
                </Box>
              </Section>
            </Pane>
          ),
        },
        {
          id: 'results',
          size: editing ? 28 : 49,
          min: 24,
          content: (
            <Flex direction="column" height="100%">
              <Box flex="1" minHeight="0">
                <Pane
                  part="results"
                  title={suite}
                  note={<RunNote running={running} run={run.data} />}
                  aside={
                    <Flex gap="8px">
                      {!given[suite] && (
                        <QuietButton
                          type="button"
                          height="26px"
                          onClick={() => change({ suite, edit: 'text', new: '' })}
                        >
                          Edit
                        </QuietButton>
                      )}
                      {running.on ? (
                        <QuietButton type="button" height="26px" onClick={running.stop}>
                          Stop
                        </QuietButton>
                      ) : (
                        <QuietButton type="button" height="26px" onClick={() => begin([suite])}>
                          Run
                        </QuietButton>
                      )}
                    </Flex>
                  }
                >
                  {running.error && (
                    <Section>
                      <Problem>{running.error.message}</Problem>
                    </Section>
                  )}
                  {ofSuite.length > 0 ? (
                    <Results results={ofSuite} chosen={check} onChoose={(c) => change({ suite, check: c })} />
                  ) : (
                    <Empty>
                      {running.on
                        ? 'Waiting for the first result …'
                        : 'This suite was not part of the run. Run it to see whether it holds.'}
                    </Empty>
                  )}
                </Pane>
              </Box>
              <RunBars
                runs={runs.data}
                shown={shown}
                onChoose={(id) => change({ suite, run: String(id), check: '' })}
              />
            </Flex>
          ),
        },
        {
          id: 'detail',
          size: editing ? 50 : 29,
          min: 20,
          content: editing ? (
            <SuiteEditor
              key={search.get('new') ?? suite}
              window={window}
              suite={search.has('new') ? undefined : suites.data.find((s) => s.name === suite)}
              onDone={choose}
            />
          ) : open ? (
            <Failure
              window={window}
              result={open}
              kept={suites.data.some((s) => s.name === open.suite)}
              onAccepted={() => begin([open.suite ?? suite])}
            />
          ) : (
            <Empty>Choose a check to see what was sent and answered.</Empty>
          ),
        },
      ]}
    />
  );
}

interface SuiteLineProps {
  name: string;
  about: string | undefined;
  chosen: boolean;
  results: CheckResult[];
  onChoose: () => void;
}

function SuiteLine({ name, about, chosen, results, onChoose }: SuiteLineProps) {
  const failed = results.filter((r) => !r.passed).length;
  const steps = results.reduce((n, r) => n + (r.steps?.length ?? 0), 0);
  return (
    <chakra.button
      type="button"
      display="block"
      width="100%"
      textAlign="left"
      padding="12px 16px"
      borderBottomWidth="1px"
      cursor="pointer"
      bg={chosen ? 'sel' : undefined}
      _hover={{ bg: chosen ? 'sel' : 'raised' }}
      aria-pressed={chosen}
      onClick={onChoose}
    >
      <b>{name}</b>
      <Flex gap="12px">
        <chakra.span color={chosen ? 'chalk' : 'muted'} flex="1">
          {results.length === 0 ? (about ?? 'kept here') : counted(steps || results.length, steps ? 'step' : 'check')}
        </chakra.span>
        {results.length > 0 && (
          <chakra.span color={failed > 0 ? 'brick' : 'glass'}>
            {failed > 0 ? `${count(failed)} failed` : 'passed'}
          </chakra.span>
        )}
      </Flex>
    </chakra.button>
  );
}

function RunNote({ running, run }: { running: Running; run: { at: string; on: string; by: string } | undefined }) {
  if (running.on) return <span role="status">running, {counted(running.results?.length ?? 0, 'check')} done</span>;
  if (!run) return <span>not run yet</span>;
  return (
    <span>
      against {run.on === 'draft' ? 'the draft' : run.on === 'live' ? 'live' : `release ${run.on}`}, in a rehearsal,{' '}
      <When at={run.at} />
    </span>
  );
}

interface RunBarsProps {
  runs: Run[];
  shown: number | undefined;
  onChoose: (run: number) => void;
}

/** The last runs as bars: as high as the time that each took, and in the colour of its outcome. */
function RunBars({ runs, shown, onChoose }: RunBarsProps) {
  const seconds = (r: Run) => r.results.reduce((sum, s) => sum + s.seconds, 0);
  const most = Math.max(0.001, ...runs.map(seconds));
  if (runs.length === 0) return null;
  return (
    <Box borderTopWidth="1px" data-part="runs">
      <Flex paddingX="16px" height="32px" align="center" gap="12px" fontSize="12.5px" color="muted">
        <chakra.h2 color="chalk" fontWeight="600">
          Runs
        </chakra.h2>
        <span>the last {runs.length}; height: time taken</span>
      </Flex>
      <Flex align="flex-end" gap="4px" height="52px" paddingX="16px" paddingBottom="10px">
        {[...runs].reverse().map((r) => {
          const says = `${local(r.at)}, by ${r.by.split('@')[0] ?? ''}: ${r.ended_at ? `${count(r.passed)} passed, ${count(r.failed)} failed, ${took(seconds(r) * 1000)}` : 'goes on'}`;
          return (
            <chakra.button
              key={r.id}
              type="button"
              title={says}
              aria-label={says}
              aria-pressed={r.id === shown}
              width="14px"
              height={`${String(8 + (seconds(r) / most) * 32)}px`}
              cursor="pointer"
              bg={!r.ended_at ? 'amber' : r.failed > 0 ? 'brick' : 'glass'}
              clipPath={r.failed > 0 ? 'polygon(50% 0, 100% 8px, 100% 100%, 0 100%, 0 8px)' : undefined}
              outline={r.id === shown ? '2px solid' : undefined}
              outlineColor="chalk"
              onClick={() => onChoose(r.id)}
            />
          );
        })}
      </Flex>
    </Box>
  );
}
