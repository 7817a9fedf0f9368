import { Box, chakra, Flex } from '@chakra-ui/react';
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'wouter';

import { fetched } from '../../api/client';
import { pretty } from '../../look/format';
import { Code, Entry, MainButton, Mono, PaneHead, Problem, QuietButton, Section, Tabs } from '../../look/parts';
import { Snippets } from '../ask/CopyAs';
import { claimParams } from '../../claims';
import { encoded } from '../ask/sentence';
import { actAs } from '../ask/speaker';
import { example, type Document, type Operation } from './openapi';

interface TryPaneProps {
  window: string;
  doc: Document;
  operation: Operation;
  role: string;
  /** The claims that the role needs. */
  claims: { name: string; kind: string }[];
}

/** The operation as a request that can be copied, and what answers it: examples, and for reads the draft itself. */
export function TryPane({ window, operation: op, role, claims }: TryPaneProps) {
  const path = example(op);
  const body = op.body?.example === undefined ? '' : JSON.stringify(op.body.example, null, 2);
  const reads = op.method === 'GET';
  const [given, setGiven] = useState<Record<string, string>>({});
  const kept = Object.fromEntries(Object.entries(given).filter(([, v]) => v !== ''));
  const as = actAs({ roles: role ? [role] : [], claims: kept });
  const ask = useMutation({
    mutationFn: () => fetched(`/draft/${window}${encoded(path)}`, { headers: as ? { 'Act-As': as } : {} }),
  });
  const statuses = op.answers.map(([status]) => status);
  const [status, setStatus] = useState(statuses[0] ?? '');
  const answer = op.answers.find(([s]) => s === status)?.[1];
  const shown = Object.values(answer?.content ?? {})[0]?.example;
  const params = new URLSearchParams({
    q: path,
    ...(role ? { as: role, ...claimParams(kept) } : {}),
    ...(reads ? {} : { method: op.method, body }),
  });
  return (
    <Box height="100%" overflow="auto" data-part="try" tabIndex={-1}>
      <PaneHead>Try it</PaneHead>
      <Section>
        <Snippets window={window} request={{ method: op.method, path, ...(body ? { body } : {}) }} />
      </Section>
      <Section>
        {reads &&
          claims.map((c) => (
            <chakra.label key={c.name} display="flex" gap="8px" alignItems="center" marginBottom="8px">
              <Mono flex="none">{c.name}</Mono>
              <Entry
                name={c.name}
                height="28px"
                placeholder={c.kind}
                value={given[c.name] ?? ''}
                onChange={(e) => setGiven({ ...given, [c.name]: e.target.value })}
              />
            </chakra.label>
          ))}
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
