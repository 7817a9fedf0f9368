import { Box, chakra } from '@chakra-ui/react';

import type { Role } from '../../api/hooks';
import { Entry, Mono, Tick } from '../../look/parts';

/** What a caller may be given: roles, and the claims that these need. */
export interface Given {
  roles: string[];
  claims: Record<string, string>;
}

interface RolesAndClaimsProps {
  roles: Role[];
  given: Given;
  onChange: (next: Given) => void;
}

export function RolesAndClaims({ roles, given, onChange }: RolesAndClaimsProps) {
  const needed = roles.filter((r) => given.roles.includes(r.name)).flatMap((r) => r.claims);
  const names = [...new Set([...needed.map((c) => c.name), ...Object.keys(given.claims)])];
  return (
    <>
      <chakra.fieldset>
        <chakra.legend>Roles</chakra.legend>
        {roles.map((r) => (
          <chakra.label key={r.name} display="flex" gap="8px" alignItems="baseline" cursor="pointer">
            <Tick
              name={`role ${r.name}`}
              checked={given.roles.includes(r.name)}
              onChange={() =>
                onChange({
                  ...given,
                  roles: roles.map((o) => o.name).filter((n) => given.roles.includes(n) !== (n === r.name)),
                })
              }
            />
            <span>
              {r.name} <chakra.span color="muted">{r.about}</chakra.span>
            </span>
          </chakra.label>
        ))}
      </chakra.fieldset>
      {names.map((name) => (
        <chakra.label key={name}>
          <Box>
            <Mono>{name}</Mono>{' '}
            <chakra.span color="muted">{needed.find((c) => c.name === name)?.kind ?? 'no role needs it'}</chakra.span>
          </Box>
          <Entry
            name={`claim ${name}`}
            fontFamily="mono"
            value={given.claims[name] ?? ''}
            onChange={(e) => onChange({ ...given, claims: { ...given.claims, [name]: e.target.value } })}
          />
        </chakra.label>
      ))}
    </>
  );
}

/** The claims as they are sent: one that is empty is taken away. */
export function claimsOf(given: Given): Record<string, string | null> {
  return Object.fromEntries(Object.entries(given.claims).map(([name, v]) => [name, v === '' ? null : v]));
}
