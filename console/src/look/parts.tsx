import { Box, chakra, Flex, Popover, Portal, Splitter, type BoxProps } from '@chakra-ui/react';
import { Component, useId, useState, type ReactNode } from 'react';

import { ago, local, utc } from './format';

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

/** A square for what is live and good, a diamond for what is draft, a triangle for what breaks or is refused. */
export function Sign({ of }: { of: 'live' | 'draft' | 'wrong' | 'none' }) {
  const fill = { live: 'glass', draft: 'amber', wrong: 'brick', none: 'stroke' }[of];
  const d = { live: 'M1 1h8v8H1z', none: 'M1 1h8v8H1z', draft: 'M5 0l5 5-5 5-5-5z', wrong: 'M5 0.5L10 9.5H0z' }[of];
  return (
    <chakra.svg viewBox="0 0 10 10" width="10px" height="10px" aria-hidden="true" flex="none" display="inline-block">
      <chakra.path fill={fill} d={d} />
    </chakra.svg>
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
      overflowWrap="anywhere"
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
    whiteSpace: 'nowrap',
    _disabled: { bg: 'raised', color: 'faint', cursor: 'default', outline: '1px solid', outlineColor: 'mullion' },
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
    whiteSpace: 'nowrap',
    _hover: { bg: 'sel' },
    _disabled: { color: 'faint', cursor: 'default', _hover: { bg: 'transparent' } },
  },
});

/** A button that looks like a link within text. */
export const TextButton = chakra('button', {
  base: { cursor: 'pointer', color: 'code', _hover: { textDecoration: 'underline' }, _disabled: { color: 'faint' } },
});

const frame = {
  bg: 'ground',
  color: 'chalk',
  borderWidth: '1px',
  borderRadius: '2px',
  height: '32px',
  width: '100%',
};

/** A line to type into. */
export const Entry = chakra('input', { base: { ...frame, paddingX: '10px' } });

/** Several lines to type into. */
export const LongEntry = chakra('textarea', {
  base: { ...frame, height: 'auto', padding: '6px 10px', resize: 'vertical' },
});

/** A list to choose one from. */
export const Choice = chakra('select', { base: { ...frame, paddingX: '8px' } });

/** An entry with its name above and what is wrong or what it is for below. */
export function Field({ name, help, children }: { name: ReactNode; help?: ReactNode; children: ReactNode }) {
  return (
    <chakra.label display="block">
      <Box color="muted" marginBottom="2px">
        {name}
      </Box>
      {children}
      {help && (
        <Box color="muted" fontSize="12.5px" marginTop="2px">
          {help}
        </Box>
      )}
    </chakra.label>
  );
}

interface FormProps extends Omit<React.ComponentProps<typeof chakra.form>, 'onSubmit'> {
  onSubmit: () => void;
}

/** Entries one below the other, which are sent together. */
export function Form({ onSubmit, ...rest }: FormProps) {
  return (
    <chakra.form
      display="flex"
      flexDirection="column"
      gap="10px"
      onSubmit={(e) => {
        e.preventDefault();
        e.stopPropagation(); // what opens from within another form is none of its parts
        onSubmit();
      }}
      {...rest}
    />
  );
}

interface TextFormProps {
  label: string;
  value: string;
  help?: ReactNode;
  required?: boolean;
  onDone: (text: string) => void;
}

/** A form of one text. */
export function TextForm({ label, value, help, required, onDone }: TextFormProps) {
  const [typed, setTyped] = useState(value);
  return (
    <Form onSubmit={() => onDone(typed.trim())}>
      <label>
        {label}
        <Entry
          autoFocus
          required={required}
          fontFamily="mono"
          fontSize="13px"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
      </label>
      {help && <Box color="muted">{help}</Box>}
      <MainButton type="submit" alignSelf="flex-start">
        Set
      </MainButton>
    </Form>
  );
}

/** A box to tick: lit where it is ticked, half where some of several are. */
export const Tick = chakra(
  'input',
  {
    base: {
      appearance: 'none',
      width: '12px',
      height: '12px',
      flex: 'none',
      bg: 'unlit',
      borderWidth: '1px',
      borderColor: 'stroke',
      cursor: 'pointer',
      verticalAlign: '-1px',
      margin: 0,
      _checked: { bg: 'lit', borderColor: 'lit' },
      _indeterminate: { background: 'linear-gradient(135deg, {colors.lit} 50%, {colors.unlit} 50%)' },
      _disabled: { cursor: 'default', opacity: 0.6 },
    },
  },
  { defaultProps: { type: 'checkbox' } },
);

/** The line between two panes, by which they are resized. */
export function ResizeHandle({ between }: { between: `${string}:${string}` }) {
  return (
    <Splitter.ResizeTrigger
      id={between}
      aria-label="Resize"
      bg="mullion"
      width="1px"
      minWidth="1px"
      padding="0"
      position="relative"
      cursor="col-resize"
      _hover={{ bg: 'stroke' }}
      _after={{ content: '""', position: 'absolute', insetY: 0, left: '-4px', width: '9px' }}
    />
  );
}

interface PanesProps {
  /** Each pane with its name, its share of the width, the least that it may have, and what is in it. */
  panes: { id: string; size: number; min?: number; content: ReactNode }[];
}

/** Panes beside each other, parted by lines that can be moved. */
export function Panes({ panes }: PanesProps) {
  return (
    <Splitter.Root
      key={panes.map((p) => p.id).join()}
      panels={panes.map((p) => ({ id: p.id, minSize: p.min ?? 12 }))}
      defaultSize={panes.map((p) => p.size)}
      height="100%"
      width="100%"
      minHeight="0"
      display="flex"
    >
      {panes.flatMap((p, i) => [
        ...(i > 0 ? [<ResizeHandle key={`line ${p.id}`} between={`${panes[i - 1]?.id ?? ''}:${p.id}`} />] : []),
        <Splitter.Panel key={p.id} id={p.id} overflow="hidden" minWidth="0" height="100%">
          <Contained>{p.content}</Contained>
        </Splitter.Panel>,
      ])}
    </Splitter.Root>
  );
}

/** Keeps a mistake of the page itself within one pane. */
export class Contained extends Component<{ children: ReactNode }, { failed: string | null }> {
  state = { failed: null };
  static getDerivedStateFromError(e: unknown) {
    return { failed: e instanceof Error ? e.message : String(e) };
  }
  render() {
    if (this.state.failed === null) return this.props.children;
    return (
      <Box padding="20px">
        <Problem>This part of the page failed: {this.state.failed}</Problem>
        <QuietButton type="button" marginTop="12px" onClick={() => this.setState({ failed: null })}>
          Try again
        </QuietButton>
      </Box>
    );
  }
}

/** A pane: one heading line at most, and what is in it, which scrolls. */
export function Pane({
  title,
  note,
  aside,
  part,
  children,
}: {
  title: ReactNode;
  note?: ReactNode;
  aside?: ReactNode;
  part?: string;
  children: ReactNode;
}) {
  return (
    <Flex direction="column" height="100%" minHeight="0" data-part={part}>
      <PaneHead note={note} aside={aside}>
        {title}
      </PaneHead>
      <Box flex="1" minHeight="0" overflow="auto" position="relative" tabIndex={-1}>
        <Contained>{children}</Contained>
      </Box>
    </Flex>
  );
}

/** The line at the top of a pane. */
export const Bar = chakra(Flex, {
  base: {
    alignItems: 'center',
    gap: '12px',
    height: '36px',
    flex: 'none',
    paddingX: '16px',
    borderBottomWidth: '1px',
    fontSize: '12.5px',
    color: 'muted',
    whiteSpace: 'nowrap',
  },
});

/** The heading line of a pane. */
export function PaneHead({ children, note, aside }: { children: ReactNode; note?: ReactNode; aside?: ReactNode }) {
  return (
    <Bar>
      <chakra.h2 fontWeight="600" fontSize="12.5px" color="chalk" overflow="hidden" textOverflow="ellipsis">
        {children}
      </chakra.h2>
      {note && (
        <Box overflow="hidden" textOverflow="ellipsis">
          {note}
        </Box>
      )}
      <Box flex="1" />
      {aside}
    </Bar>
  );
}

/** A part of a pane, parted from the next one by a line. */
export function Section({ children, ...rest }: { children: ReactNode } & React.ComponentProps<typeof Box>) {
  return (
    <Box padding="14px 16px" borderBottomWidth="1px" {...rest}>
      {children}
    </Box>
  );
}

/** What a machine reads, also inside a sentence. */
export const Mono = chakra('span', { base: { fontFamily: 'mono', fontSize: '0.92em', overflowWrap: 'anywhere' } });

/** A text that a machine reads, in lines. */
export const Code = chakra('pre', {
  base: {
    fontFamily: 'mono',
    fontSize: '12.5px',
    lineHeight: 1.6,
    color: 'code',
    whiteSpace: 'pre-wrap',
    overflowWrap: 'anywhere',
    margin: 0,
  },
});

/** What scrolls by itself within a pane, by the keyboard as well. */
export function Scrolled({ label, children, ...rest }: { label: string } & BoxProps) {
  return (
    <Box minHeight="0" overflow="auto" padding="14px 16px" tabIndex={0} role="group" aria-label={label} {...rest}>
      {children}
    </Box>
  );
}

/** A pane that waits, or that could not be read. */
export function Waiting({ what, error, again }: { what: string; error?: Error | null; again?: () => void }) {
  return (
    <Box padding="20px" color="muted" role="status">
      {error ? <Problem>{error.message}</Problem> : `Reading ${what} …`}
      {error && again && (
        <QuietButton type="button" marginTop="12px" onClick={again}>
          Try again
        </QuietButton>
      )}
    </Box>
  );
}

/** Where there is nothing yet: what would be here, and how to get it. */
export function Empty({ children }: { children: ReactNode }) {
  return (
    <Box padding="20px" color="muted" maxWidth="560px">
      {children}
    </Box>
  );
}

/** A table whose heading stays in sight. */
export const Table = chakra('table', { base: { width: '100%', borderCollapse: 'collapse', fontSize: '13px' } });

export const Th = chakra('th', {
  base: {
    position: 'sticky',
    top: 0,
    zIndex: 1,
    bg: 'pane',
    color: 'muted',
    fontWeight: 500,
    textAlign: 'left',
    padding: '5px 16px',
    whiteSpace: 'nowrap',
    boxShadow: 'inset 0 -1px {colors.mullion}',
  },
});

export const Td = chakra('td', {
  base: { padding: '5px 16px', borderBottomWidth: '1px', verticalAlign: 'top', textAlign: 'left' },
});

export const Number = chakra('td', {
  base: {
    padding: '5px 16px',
    borderBottomWidth: '1px',
    verticalAlign: 'top',
    textAlign: 'right',
    whiteSpace: 'nowrap',
  },
});

/** A moment: how long ago or when, in the reader's time; UTC where the pointer rests on it. */
export function When({ at, exact }: { at: string; exact?: boolean }) {
  return (
    <time dateTime={at} title={utc(at)}>
      {exact ? local(at) : ago(at)}
    </time>
  );
}

interface TabsProps<T extends string> {
  label: string;
  options: readonly T[];
  chosen: T;
  onChoose: (option: T) => void;
}

/** Views of the same thing, of which one is shown. */
export function Tabs<T extends string>({ label, options, chosen, onChoose }: TabsProps<T>) {
  return (
    <Flex role="group" aria-label={label} gap="14px" height="100%">
      {options.map((o) => (
        <chakra.button
          key={o}
          type="button"
          aria-pressed={o === chosen}
          cursor="pointer"
          height="100%"
          color={o === chosen ? 'chalk' : 'muted'}
          fontWeight={o === chosen ? 600 : 400}
          boxShadow={o === chosen ? 'inset 0 -2px {colors.lit}' : undefined}
          _hover={{ color: 'chalk' }}
          onClick={() => onChoose(o)}
        >
          {o}
        </chakra.button>
      ))}
    </Flex>
  );
}

interface ChipProps {
  /** What it is; those who hear the page hear it before what the chip says. */
  label: string;
  children: ReactNode;
  /** What the chip opens; it gets a function that closes it. */
  choices: (close: () => void) => ReactNode;
  quiet?: boolean;
}

/** A part of a sentence that can be changed. Its name tells what it is and what it says. */
export function Chip({ label, children, choices, quiet }: ChipProps) {
  const [open, setOpen] = useState(false);
  const id = useId();
  return (
    <Popover.Root
      open={open}
      onOpenChange={(e) => setOpen(e.open)}
      positioning={{ placement: 'bottom-start' }}
      lazyMount
      unmountOnExit
    >
      <span hidden id={id}>
        {label}:
      </span>
      <Popover.Trigger asChild>
        <chakra.button
          type="button"
          aria-labelledby={`${id} ${id}-says`}
          data-chip={label}
          borderBottomWidth={quiet ? undefined : '1px'}
          borderBottomStyle="dotted"
          borderColor="stroke"
          bg={open ? 'sel' : 'transparent'}
          cursor="pointer"
          textAlign="left"
          _hover={{ bg: 'sel' }}
        >
          <span id={`${id}-says`}>{children}</span>
        </chakra.button>
      </Popover.Trigger>
      <Portal>
        <Popover.Positioner>
          <Popover.Content
            aria-label={label}
            bg="raised"
            borderWidth="1px"
            borderRadius="2px"
            zIndex={20}
            minWidth="220px"
            maxWidth="440px"
            maxHeight="70vh"
            overflowY="auto"
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

/** Choices one below the other; above a dozen, typing narrows them. */
export function ChoiceList({
  options,
  chosen,
  plain,
  onChoose,
}: {
  options: string[];
  chosen: string[];
  plain?: boolean;
  onChoose: (option: string) => void;
}) {
  const [typed, setTyped] = useState('');
  const found = options.filter((o) => o.toLowerCase().includes(typed.toLowerCase()));
  return (
    <>
      {options.length > 12 && (
        <Entry
          aria-label="Narrow the choices"
          placeholder="Find …"
          height="28px"
          marginBottom="6px"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          onKeyDown={(e) => {
            if (e.key === 'Enter' && found[0] !== undefined) onChoose(found[0]);
          }}
        />
      )}
      <chakra.ul listStyleType="none" maxHeight="50vh" overflowY="auto" margin="-4px" padding="0">
        {found.slice(0, 200).map((o) => (
          <li key={o}>
            <chakra.button
              type="button"
              width="100%"
              textAlign="left"
              fontFamily={plain ? undefined : 'mono'}
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
        {found.length === 0 && <chakra.li color="muted">Nothing is named so.</chakra.li>}
      </chakra.ul>
    </>
  );
}

/** Copies a text, and says that it has. */
export function CopyButton({ text, children = 'Copy' }: { text: string; children?: ReactNode }) {
  const [done, setDone] = useState(false);
  return (
    <QuietButton
      type="button"
      onClick={() => {
        void navigator.clipboard.writeText(text).then(() => {
          setDone(true);
          setTimeout(() => setDone(false), 1500);
        });
      }}
    >
      <span aria-live="polite">{done ? 'Copied' : children}</span>
    </QuietButton>
  );
}
