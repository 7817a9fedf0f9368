import { Box, chakra } from '@chakra-ui/react';
import type { ReactNode } from 'react';

/** The mark: a window of four panes, one lit. */
export function Mark({ size = '18px' }: { size?: string }) {
  return (
    <chakra.svg viewBox="0 0 16 16" width={size} height={size} aria-hidden="true" flex="none">
      <chakra.path fill="lit" d="M8.5 2H14v5.5H8.5z" />
      <chakra.path
        fill="none"
        stroke="chalk"
        strokeWidth={size === '18px' ? 1 : 0.12}
        d="M1.5 1.5h13v13h-13zM8 1.5v13M1.5 8h13"
      />
    </chakra.svg>
  );
}

/** A square for what is live, a diamond for what is draft. */
export function Sign({ of }: { of: 'live' | 'draft' | 'none' }) {
  const bg = of === 'live' ? 'glass' : of === 'draft' ? 'amber' : 'faint';
  return (
    <Box
      as="span"
      display="inline-block"
      width="9px"
      height="9px"
      bg={bg}
      transform={of === 'draft' ? 'rotate(45deg)' : undefined}
    />
  );
}

/** What went wrong, in the words of the service. */
export function Problem({ children }: { children: ReactNode }) {
  return (
    <Box
      role="alert"
      color="brick"
      borderLeftWidth="3px"
      borderLeftColor="brick"
      paddingLeft="12px"
      whiteSpace="pre-wrap"
    >
      {children}
    </Box>
  );
}

/** The one main button of a page. */
export const MainButton = chakra('button', {
  base: {
    bg: 'lit',
    color: 'onlit',
    fontWeight: 600,
    paddingX: '14px',
    height: '34px',
    borderRadius: '2px',
    cursor: 'pointer',
    _disabled: { opacity: 0.5, cursor: 'default' },
  },
});

/** Any other button. */
export const QuietButton = chakra('button', {
  base: {
    bg: 'transparent',
    color: 'chalk',
    paddingX: '14px',
    height: '34px',
    borderWidth: '1px',
    borderRadius: '2px',
    cursor: 'pointer',
    _hover: { bg: 'sel' },
  },
});

const frame = {
  bg: 'pane',
  color: 'chalk',
  borderWidth: '1px',
  borderRadius: '2px',
  height: '34px',
  width: '100%',
};

/** A line to type into. */
export const Entry = chakra('input', {
  base: { ...frame, paddingX: '10px', _placeholder: { color: 'faint' } },
});

/** A list to choose one from. */
export const Choice = chakra('select', { base: { ...frame, paddingX: '8px' } });
