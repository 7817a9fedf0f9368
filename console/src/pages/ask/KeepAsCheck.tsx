import { Box, chakra } from '@chakra-ui/react';
import { useState } from 'react';
import { Link } from 'wouter';

import { useAsked, useNewSuite } from '../../api/hooks';
import { Chip, Entry, Form, MainButton, Mono, Problem } from '../../look/parts';

/** Keeps the last request as a check: answered with the same status and the same fields from then on. */
export function KeepAsCheck({ window, asked }: { window: string; asked: number }) {
  return (
    <Chip label="Keep as check" quiet choices={() => <KeepForm key={asked} window={window} />}>
      <Box borderWidth="1px" borderRadius="2px" height="34px" lineHeight="32px" paddingX="12px" whiteSpace="nowrap">
        Keep as check
      </Box>
    </Chip>
  );
}

function KeepForm({ window }: { window: string }) {
  const history = useAsked(window);
  const keep = useNewSuite(window);
  const [name, setName] = useState('');
  const last = history.data?.[0];
  if (keep.data)
    return (
      <Box>
        Kept as <Mono>{keep.data.name}</Mono>.{' '}
        <Link href={`/checks/${window}?suite=${keep.data.name}`}>
          <chakra.span color="code">Run it</chakra.span>
        </Link>
      </Box>
    );
  return (
    <Form
      onSubmit={() => {
        if (last) keep.mutate({ name, asked: [last.id] });
      }}
    >
      {last ? (
        <Box>
          <Mono>
            {last.method} /{last.path.slice(0, 60)}
          </Mono>{' '}
          must be answered with {last.status} and the same fields from now on.
        </Box>
      ) : (
        <Box color="muted">Ask first: the last request becomes the check.</Box>
      )}
      <label>
        Name of the suite
        <Entry
          name="suite"
          required
          placeholder="agents-see-their-calls"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
      </label>
      {(keep.error ?? history.error) && <Problem>{(keep.error ?? history.error)?.message}</Problem>}
      <MainButton type="submit" alignSelf="flex-start" disabled={!last || keep.isPending}>
        Keep
      </MainButton>
    </Form>
  );
}
