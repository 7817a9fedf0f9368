import { Box, chakra, Flex, Splitter } from '@chakra-ui/react';
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

/** The line between two panes, by which they are resized. */
export function Edge({ between }: { between: `${string}:${string}` }) {
  return (
    <Splitter.ResizeTrigger id={between} aria-label="Resize">
      <Splitter.ResizeTriggerSeparator bg="mullion" width="1px" />
    </Splitter.ResizeTrigger>
  );
}

/** The one heading line of a pane. */
export function PaneHead({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  return (
    <Flex align="center" height="36px" paddingX="16px" borderBottomWidth="1px" fontSize="12.5px" color="muted">
      <chakra.h2 fontWeight="600" flex="1">
        {children}
      </chakra.h2>
      {aside}
    </Flex>
  );
}

/** What a machine reads, also inside a sentence. */
export const Mono = chakra('span', { base: { fontFamily: 'mono', fontSize: '0.92em', overflowWrap: 'anywhere' } });

/** A pane that waits, or that could not be read. */
export function Waiting({ what, error }: { what: string; error?: Error | null }) {
  return (
    <Box padding="20px" color="muted">
      {error ? <Problem>{error.message}</Problem> : `Reading ${what} …`}
    </Box>
  );
}

/** A list to choose one from. */
export const Choice = chakra('select', { base: { ...frame, paddingX: '8px' } });
