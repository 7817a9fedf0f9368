import { Box, chakra, Flex } from '@chakra-ui/react';
import { useState } from 'react';

import { useWhy, type Model, type Operation } from '../../api/hooks';
import { Choice, Entry, Mono, Problem, QuietButton } from '../../look/parts';
import type { Crossing } from './Facade';
import { operations } from './FourLights';

interface WhyBoxProps {
  window: string;
  model: Model;
  crossing: Crossing;
  claims: Record<string, string>;
}

/** Asks why the role may or may not do something, also with one row and one field of it. */
export function WhyBox({ window, model, crossing, claims }: WhyBoxProps) {
  const why = useWhy(window);
  const resource = model.resources.find((r) => r.name === crossing.resource);
  const [operation, setOperation] = useState<Operation>('read');
  const [key, setKey] = useState('');
  const [field, setField] = useState('');
  return (
    <Box padding="0 16px 16px" data-part="why">
      <chakra.form
        display="flex"
        gap="8px"
        onSubmit={(e) => {
          e.preventDefault();
          const keys = key.split('/').map((k) => k.trim());
          why.mutate({
            roles: [crossing.role],
            resource: crossing.resource,
            operation,
            claims,
            key: key.trim() === '' ? [] : keys,
            field,
          });
        }}
      >
        <Choice
          aria-label="Operation"
          name="operation"
          width="96px"
          value={operation}
          onChange={(e) => setOperation(operations.find((o) => o === e.target.value) ?? 'read')}
        >
          {operations.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </Choice>
        <Entry
          aria-label="Key of a row"
          name="key"
          fontFamily="mono"
          flex="1"
          minWidth="0"
          placeholder={resource && resource.key.length > 0 ? `any row, or ${resource.key.join('/')}` : 'any row'}
          disabled={resource?.key.length === 0}
          value={key}
          onChange={(e) => setKey(e.target.value)}
        />
        <Choice aria-label="Field" name="field" width="128px" value={field} onChange={(e) => setField(e.target.value)}>
          <option value="">any field</option>
          {resource?.fields.map((f) => (
            <option key={f.name}>{f.name}</option>
          ))}
        </Choice>
        <QuietButton type="submit" disabled={why.isPending}>
          Why
        </QuietButton>
      </chakra.form>
      <Box aria-live="polite" marginTop="12px">
        {why.error && <Problem>{why.error.message}</Problem>}
        {why.data && (
          <>
            <Flex gap="8px" color={why.data.may ? 'glass' : 'brick'}>
              <span>{why.data.may ? 'Yes.' : 'No.'}</span>
              <chakra.span color="chalk">{why.data.says}</chakra.span>
            </Flex>
            {why.data.conditions?.map((c) => (
              <Flex key={c.text} gap="10px" marginTop="4px">
                <Mono color="code" flex="1">
                  {c.text}
                </Mono>
                {c.holds !== undefined && (
                  <chakra.span color={c.holds ? 'glass' : 'brick'} whiteSpace="nowrap">
                    {c.holds ? 'holds' : 'does not hold'}
                  </chakra.span>
                )}
              </Flex>
            ))}
            {why.data.change && (
              <Box marginTop="8px" color="muted">
                To allow it: {why.data.change}
              </Box>
            )}
            {why.data.sql && (
              <chakra.details marginTop="8px" color="muted">
                <chakra.summary cursor="pointer">The statement</chakra.summary>
                <chakra.pre fontFamily="mono" fontSize="12px" whiteSpace="pre-wrap" color="code">
                  {why.data.sql}
                </chakra.pre>
              </chakra.details>
            )}
          </>
        )}
      </Box>
    </Box>
  );
}
