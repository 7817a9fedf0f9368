import { Box, Flex } from '@chakra-ui/react';
import { Link } from 'wouter';

import { useLights } from '../../api/hooks';
import { counted } from '../../look/format';
import { Empty, Mono, Section, Waiting } from '../../look/parts';
import { operations } from '../lights/FourLights';

/** What the first release gives to whom. */
export function FirstContent({ window }: { window: string }) {
  const lights = useLights(window);
  if (!lights.data) return <Waiting what="the roles" error={lights.error} />;
  const { roles, resources } = lights.data;
  return (
    <Box height="100%" overflow="auto" tabIndex={-1}>
      <Section color="muted">
        {counted(resources.length, 'resource')} for {counted(roles.length, 'role')}. Each role gets what is listed here,
        and nothing else.
      </Section>
      {roles.map((r, i) => {
        const may = resources.filter((l) => (l.lights[i] ?? []).some((x) => x === 'lit' || x === 'half'));
        return (
          <Section key={r.name}>
            <b>{r.name}</b>
            <Box as="span" color="muted">
              {r.anonymous ? ', without a token' : ''}
            </Box>
            {may.length === 0 && (
              <Box color="amber">
                ◆ It may do nothing yet.{' '}
                <Link href={`/lights/${window}?role=${encodeURIComponent(r.name)}`}>Say what under Lights.</Link>
              </Box>
            )}
            {may.map((l) => (
              <Flex key={l.name} gap="12px">
                <Mono minWidth="160px">{l.name}</Mono>
                <Box color="muted">
                  {operations
                    .map((o, n) => ({ o, light: l.lights[i]?.[n] }))
                    .filter(({ light }) => light === 'lit' || light === 'half')
                    .map(({ o, light }) => (light === 'half' ? `${o} some` : o))
                    .join(', ')}
                </Box>
              </Flex>
            ))}
          </Section>
        );
      })}
      {roles.length === 0 && <Empty>No role, no access: add one under Lights first.</Empty>}
    </Box>
  );
}
