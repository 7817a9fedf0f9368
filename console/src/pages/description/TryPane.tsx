import { Box, Flex } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'wouter';

import { fetched } from '../../api/client';
import { Code, MainButton, PaneHead, Problem, QuietButton, Section, Tabs } from '../../look/parts';
import { Snippets } from '../ask/CopyAs';
import { encoded } from '../ask/sentence';
import { example, type Document, type Operation } from './openapi';

interface TryPaneProps {
  window: string;
  doc: Document;
  operation: Operation;
  role: string;
}

/** The operation as a request that can be copied, and what answers it: examples, and for reads the draft itself. */
export function TryPane({ window, operation: op, role }: TryPaneProps) {
  const path = example(op);
  const body = op.body?.example === undefined ? '' : JSON.stringify(op.body.example, null, 2);
  const reads = op.method === 'GET';
  const ask = useMutation({
    mutationFn: () => fetched(`/draft/${window}${encoded(path)}`, { headers: role ? { 'Act-As': role } : {} }),
  });
  const statuses = op.answers.map(([status]) => status);
  const [status, setStatus] = useState(statuses[0] ?? '');
  const answer = op.answers.find(([s]) => s === status)?.[1];
  const shown = Object.values(answer?.content ?? {})[0]?.example;
  const params = new URLSearchParams({
    q: path,
    ...(role ? { as: role } : {}),
    ...(reads ? {} : { method: op.method, body }),
  });
  return (
    <Box height="100%" overflow="auto" data-part="try" tabIndex={-1}>
      <PaneHead>Try it</PaneHead>
      <Section>
        <Snippets window={window} request={{ method: op.method, path, ...(body ? { body } : {}) }} />
      </Section>
      <Section>
        <Flex gap="8px">
          {reads && (
            <MainButton type="button" disabled={ask.isPending} onClick={() => ask.mutate()}>
              Ask the draft
            </MainButton>
          )}
          <QuietButton asChild lineHeight="32px">
            <Link href={`/ask/${window}?${params.toString()}`}>Open as a sentence</Link>
          </QuietButton>
        </Flex>
        {ask.error && <Problem>{ask.error.message}</Problem>}
        {ask.data && (
          <Code marginTop="10px" maxHeight="40vh" overflowY="auto" tabIndex={0}>
            {ask.data.response.status} {ask.data.response.statusText}
            {'\n'}
            {pretty(ask.data.text)}
          </Code>
        )}
      </Section>
      <Box height="34px" paddingX="16px" borderBottomWidth="1px" fontSize="13px">
        <Tabs label="Answers" options={statuses} chosen={status} onChoose={setStatus} />
      </Box>
      <Section border="none">
        <Box color="muted">{answer?.description}</Box>
        {shown !== undefined && (
          <>
            <Code marginTop="8px">{JSON.stringify(shown, null, 2)}</Code>
            <Box color="muted" marginTop="8px">
              An example, made up.
            </Box>
          </>
        )}
      </Section>
    </Box>
  );
}

function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
