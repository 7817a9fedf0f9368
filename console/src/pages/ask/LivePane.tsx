import { Box } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';

import { manage, settled } from '../../api/client';
import { bytes, took } from '../../look/format';
import { Code, Number as NumberCell, Section, Table, Td, Th, Waiting } from '../../look/parts';

/** The same read of what is live and of the draft: whether the answers differ, and what each costs. */
export function LivePane({ window, address, actAs }: { window: string; address: string; actAs: string }) {
  const compared = useQuery({
    queryKey: ['answers', window, address, actAs],
    queryFn: async ({ signal }) =>
      settled(
        await manage.POST('/windows/{window}/answers', {
          params: { path: { window } },
          body: { from: 'live', to: 'draft', paths: [address.replace(/^\//, '')], ...(actAs ? { act_as: actAs } : {}) },
          signal,
        }),
      ),
  });
  const one = compared.data?.[0];
  if (!one) return <Waiting what="both answers" error={compared.error} again={() => void compared.refetch()} />;
  return (
    <Box height="100%" overflow="auto" data-part="live">
      <Section color={one.difference ? 'amber' : 'glass'}>
        {one.difference ? '◆ Live and draft answer differently.' : '✓ Live and draft answer the same.'}
        {one.difference && <Code marginTop="6px">{one.difference}</Code>}
      </Section>
      <Table>
        <thead>
          <tr>
            <Td />
            <Th textAlign="right">live</Th>
            <Th textAlign="right">draft</Th>
          </tr>
        </thead>
        <tbody>
          {(
            [
              ['status', one.from.status, one.to.status],
              ['time', took(one.from.milliseconds), took(one.to.milliseconds)],
              ['statements', one.from.statements, one.to.statements],
              ['size', bytes(one.from.bytes), bytes(one.to.bytes)],
            ] as const
          ).map(([name, from, to]) => (
            <tr key={name}>
              <Td color="muted">{name}</Td>
              <NumberCell>{from}</NumberCell>
              <NumberCell color={from !== to && name !== 'time' ? 'amber' : undefined}>{to}</NumberCell>
            </tr>
          ))}
        </tbody>
      </Table>
      <Box padding="12px 16px" color="muted">
        Time is the median of five, the two by turns.
      </Box>
    </Box>
  );
}
