import { chakra, Flex } from '@chakra-ui/react';
import { Link } from 'wouter';

import type { Window } from '../api/hooks';

/** The way to the first release, in five steps; each can be left and come back to. */
const steps = [
  { page: 'windows', says: 'Open the database' },
  { page: 'tables', says: 'Choose what is shown' },
  { page: 'lights', says: 'Say who may do what' },
  { page: 'checks', says: 'Check it' },
  { page: 'release', says: 'Publish' },
];

export function FirstRelease({ window: w, page }: { window: Window; page: string }) {
  const done: Record<string, boolean> = {
    windows: true,
    tables: w.draft_version > 1,
    lights: w.draft_version > 2,
    checks: w.checks !== undefined && w.checks.failed === 0,
  };
  return (
    <nav aria-label="To the first release">
      <Flex
        as="ol"
        listStyleType="none"
        align="center"
        gap="20px"
        height="34px"
        paddingX="16px"
        margin="0"
        borderBottomWidth="1px"
        bg="raised"
        fontSize="13px"
        whiteSpace="nowrap"
      >
        {steps.map((s, i) => (
          <li key={s.page}>
            <StepLink
              href={`/${s.page}/${s.page === 'windows' ? '' : w.name}`}
              aria-current={s.page === page ? 'step' : undefined}
            >
              <chakra.span color={done[s.page] ? 'glass' : 'muted'}>
                {done[s.page] ? '✓' : `${String(i + 1)}.`}
              </chakra.span>{' '}
              {s.says}
            </StepLink>
          </li>
        ))}
      </Flex>
    </nav>
  );
}

const StepLink = chakra(Link, {
  base: {
    color: 'muted',
    _hover: { color: 'chalk' },
    '&[aria-current=step]': { color: 'chalk', fontWeight: 600, boxShadow: 'inset 0 -2px {colors.lit}' },
  },
});
