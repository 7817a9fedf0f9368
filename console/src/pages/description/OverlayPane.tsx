import { yaml } from '@codemirror/lang-yaml';
import { lineNumbers } from '@codemirror/view';
import { Box, Flex } from '@chakra-ui/react';
import { useMutation, useQuery } from '@tanstack/react-query';

import { Refused } from '../../api/client';
import { sketch, useSaveDraft } from '../../api/hooks';
import { useKeptText } from '../../look/useKeptText';
import type { Document } from './openapi';
import { Editor } from '../../look/Editor';
import { MainButton, Problem, QuietButton, Section, TextButton, Waiting } from '../../look/parts';

/** What parts the overlay from the document before it. */
const parting = /^---[ \t]*\r?\n/m;

function split(text: string): { document: string; overlay: string } {
  const at = parting.exec(text.replace(/^---[ \t]*\r?\n/, (m) => ' '.repeat(m.length)));
  if (!at) return { document: text.endsWith('\n') ? text : `${text}\n`, overlay: '' };
  return { document: text.slice(0, at.index), overlay: text.slice(at.index + at[0].length) };
}

/** An overlay to begin with. */
const begin = (title: string) => `overlay: 1.0.0
info: {title: ${title}, version: 1.0.0}
actions:
  - target: $.info
    update: {description: What partners should know first.}
`;

interface OverlayPaneProps {
  window: string;
  role: string;
  /** Shows the reference with an overlay that is not saved. */
  onPreview: (doc: Document) => void;
}

/** What is patched into the description (OpenAPI Overlay 1.0), kept with the document. */
export function OverlayPane({ window, role, onPreview }: OverlayPaneProps) {
  const draft = useQuery({ queryKey: ['sketch', window, '', ''], queryFn: ({ signal }) => sketch(window, {}, signal) });
  if (!draft.data) return <Waiting what="the overlay" error={draft.error} />;
  return (
    <Overlay
      key={draft.data.version}
      window={window}
      role={role}
      text={draft.data.document}
      version={draft.data.version}
      onPreview={onPreview}
    />
  );
}

const extensions = [yaml(), lineNumbers()];

function Overlay({ window, role, text, version, onPreview }: OverlayPaneProps & { text: string; version: number }) {
  const save = useSaveDraft(window);
  const { document, overlay } = split(text);
  const [typed, setTyped] = useKeptText(`eager-overlay ${window}`, overlay);
  const before = document.split('\n').length; // lines of the document, and the one that parts
  const whole = typed.trim() ? `${document}---\n${typed}` : document;
  const store = () => save.mutate({ document: whole, base: version });
  const preview = useMutation({
    mutationFn: () => sketch(window, { document: whole, describe: role }),
    onSuccess: (made) => {
      if (made.openapi) onPreview(made.openapi as unknown as Document);
    },
  });
  const found = preview.data?.mistakes ?? [];
  const mistakes = save.error instanceof Refused ? save.error.mistakes : found;
  return (
    <Flex direction="column" height="100%" data-part="overlay">
      <Editor
        label="Overlay"
        text={typed}
        onChange={setTyped}
        onSubmit={store}
        hint="An OpenAPI Overlay 1.0: what is patched into the description at each publish."
        extensions={extensions}
        mistakes={mistakes.map((m) => ({ ...m, line: Math.max(1, (m.line ?? 1) - before) }))}
        flex="1"
      />
      <Section borderBottomWidth="0" borderTopWidth="1px">
        {(save.error ?? preview.error ?? (found.length > 0 || null)) && (
          <Box marginBottom="10px">
            <Problem>{(save.error ?? preview.error)?.message ?? found.map((m) => m.message).join('\n')}</Problem>
          </Box>
        )}
        <Flex gap="12px" align="center">
          <MainButton type="button" disabled={typed === overlay || save.isPending} onClick={store}>
            Save in the draft
          </MainButton>
          <QuietButton type="button" disabled={preview.isPending} onClick={() => preview.mutate()}>
            Preview
          </QuietButton>
          {typed.trim() === '' && (
            <TextButton onClick={() => setTyped(begin(window))}>begin with an example</TextButton>
          )}
          <Box color="muted">Callers see it once it is published.</Box>
        </Flex>
      </Section>
    </Flex>
  );
}
