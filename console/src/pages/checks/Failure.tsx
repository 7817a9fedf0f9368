import { Box, chakra, Flex } from '@chakra-ui/react';
import { Link } from 'wouter';

import type { CheckResult } from '../../api/hooks';
import { claimParams } from '../../claims';
import { pretty } from '../../look/format';
import { Code, Mono, Pane, QuietButton, Section } from '../../look/parts';
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

/** A check: what was expected and what came, the request and its answer. */
export function Failure({ window, result: r }: { window: string; result: CheckResult }) {
  const sent = r.request ? sentOf(r.request) : null;
  const [status = '', ...body] = (r.answer ?? '').split('\n');
  return (
    <Pane
      part="check"
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
      {sent && (
        <Section border="none">
          <QuietButton asChild lineHeight="32px" display="inline-block">
            <Link href={askAt(window, sent)}>Open in Ask</Link>
          </QuietButton>
        </Section>
      )}
    </Pane>
  );
}
