import { chakra, Popover, Portal } from '@chakra-ui/react';
import { useState, type ReactNode } from 'react';

interface ChipProps {
  label: string;
  children: ReactNode;
  /** What the chip opens; it gets a function that closes it. */
  choices: (close: () => void) => ReactNode;
}

/** A part of the sentence that can be changed. */
export function Chip({ label, children, choices }: ChipProps) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root
      open={open}
      onOpenChange={(e) => setOpen(e.open)}
      positioning={{ placement: 'bottom-start' }}
      lazyMount
      unmountOnExit
    >
      <Popover.Trigger asChild>
        <chakra.button
          type="button"
          aria-label={label}
          borderBottomWidth="1px"
          borderBottomStyle="dotted"
          borderColor="muted"
          bg={open ? 'sel' : 'transparent'}
          cursor="pointer"
          textAlign="left"
          _hover={{ bg: 'sel' }}
        >
          {children}
        </chakra.button>
      </Popover.Trigger>
      <Portal>
        <Popover.Positioner>
          <Popover.Content
            bg="raised"
            borderWidth="1px"
            borderRadius="2px"
            boxShadow="none"
            width="auto"
            minWidth="220px"
            maxWidth="420px"
            padding="12px"
            fontSize="14px"
          >
            {choices(() => setOpen(false))}
          </Popover.Content>
        </Popover.Positioner>
      </Portal>
    </Popover.Root>
  );
}

/** Choices one below the other; the chosen one is marked by a word for those who can't see it. */
export function ChoiceList({
  options,
  chosen,
  onChoose,
}: {
  options: string[];
  chosen: string[];
  onChoose: (option: string) => void;
}) {
  return (
    <chakra.ul listStyleType="none" maxHeight="50vh" overflowY="auto" margin="-4px">
      {options.map((o) => (
        <li key={o}>
          <chakra.button
            type="button"
            width="100%"
            textAlign="left"
            fontFamily="mono"
            fontSize="13px"
            padding="3px 8px"
            cursor="pointer"
            aria-pressed={chosen.includes(o)}
            bg={chosen.includes(o) ? 'sel' : 'transparent'}
            _hover={{ bg: 'sel' }}
            onClick={() => onChoose(o)}
          >
            {o}
          </chakra.button>
        </li>
      ))}
    </chakra.ul>
  );
}
