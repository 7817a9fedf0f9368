import { Box, chakra, Flex } from '@chakra-ui/react';
import { Link } from 'wouter';

import { useSuiteWork, type CheckResult } from '../../api/hooks';
import { claimParams } from '../../claims';
import { pretty } from '../../look/format';
import { Code, Mono, Pane, Problem, QuietButton, Section } from '../../look/parts';
import { speakerOf } from '../ask/speaker';
import { sentOf, type Sent } from './sent';

/** Where a request opens in Ask. */
function askAt(window: string, { method, path, actAs, body }: Sent): string {
  const { role, claims } = speakerOf(actAs);
  const params = new URLSearchParams({
    q: decodeURI(path),
    ...(method === 'GET' ? {} : { method, body }),
    ...(role ? { as: role, ...claimParams(claims) } : {}),
  });
  return `/ask/${window}?${params.toString()}`;
}

interface FailureProps {
  window: string;
  result: CheckResult;
  /** Whether its suite is kept here, and can be changed. */
  kept: boolean;
  onAccepted: () => void;
}

/** A check: what was expected and what came, the request and its answer. */
export function Failure({ window, result: r, kept, onAccepted }: FailureProps) {
  const sent = r.request ? sentOf(r.request) : null;
  const [status = '', ...body] = (r.answer ?? '').split('\n');
  return (
    <Flex direction="column" height="100%" data-part="check">
      <Box flex="1" minHeight="0">
        <Pane
          title={r.check}
          note={
            r.passed ? (
              <chakra.span color="glass">passed</chakra.span>
            ) : (
              <chakra.span color="brick">{r.skipped ? 'skipped' : 'failed'}</chakra.span>
            )
          }
        >
          {r.passed && (
            <Section color="muted">
              {r.asked === 1 ? 'One request was' : `${String(r.asked ?? 0)} requests were`} answered as expected.
            </Section>
          )}
          {r.skipped && <Section>{r.skipped}</Section>}
          {r.failure && (
            <Section>
              <Box color="brick">{r.at || 'failed'}</Box>
              <Code color="chalk">{r.failure}</Code>
              {r.expected && (
                <Flex gap="12px" marginTop="8px">
                  <chakra.span color="muted">expected</chakra.span>
                  <Code>{r.expected}</Code>
                </Flex>
              )}
            </Section>
          )}
          {sent && (
            <Section>
              <Box color="muted">
                sent, as <b>{sent.actAs || 'operator'}</b>
              </Box>
              <Mono color="code">
                {sent.method} {sent.path}
              </Mono>
              {sent.body && <Code marginTop="4px">{sent.body}</Code>}
            </Section>
          )}
          {r.answer && (
            <Section>
              <Box color="muted">answered</Box>
              <Code>
                {status}
                {'\n'}
                {pretty(body.join('\n'))}
              </Code>
            </Section>
          )}
        </Pane>
      </Box>
      {sent && (
        <Section borderBottomWidth="0" borderTopWidth="1px">
          <Flex gap="8px" wrap="wrap">
            <QuietButton asChild lineHeight="32px" display="inline-block">
              <Link href={askAt(window, sent)}>Open in Ask</Link>
            </QuietButton>
            {kept && r.amendments && (
              <Accept key={JSON.stringify(r.amendments)} window={window} result={r} onAccepted={onAccepted} />
            )}
          </Flex>
        </Section>
      )}
    </Flex>
  );
}

/** The button that takes the answer as right, and the criteria that it writes. */
function Accept({ window, result: { suite = '', amendments = [] }, onAccepted }: Omit<FailureProps, 'kept'>) {
  const { amend } = useSuiteWork(window);
  return (
    <>
      <QuietButton
        type="button"
        disabled={amend.isPending || amend.isSuccess}
        onClick={() => amend.mutate({ name: suite, amendments }, { onSuccess: onAccepted })}
      >
        Accept this answer
      </QuietButton>
      <Box color="muted" flexBasis="100%" marginTop="6px">
        Accepting it writes into {suite}:
        {amendments.map((a) => (
          <Box key={`${String(a.line)} ${a.from}`} marginTop="4px">
            line {a.line}: <Mono>{a.from}</Mono> becomes <Mono color="glass">{a.to}</Mono>
          </Box>
        ))}
      </Box>
      {amend.error && <Problem>{amend.error.message}</Problem>}
    </>
  );
}
