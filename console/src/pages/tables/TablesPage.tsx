import { yaml } from '@codemirror/lang-yaml';
import { lineNumbers } from '@codemirror/view';
import { Box, chakra, Flex } from '@chakra-ui/react';
import { useEffect } from 'react';

import { useWindows } from '../../api/hooks';
import { counted } from '../../look/format';
import { Editor } from '../../look/Editor';
import { useAddress } from '../../look/useAddress';
import { Empty, MainButton, Pane, Panes, Problem, QuietButton, TextButton, Waiting } from '../../look/parts';
import type { PageProps } from '../../pages';
import { SchemaTree } from './SchemaTree';
import { TablePane } from './TablePane';
import { useDocument, type Edits } from './useDocument';

/** What is shown of the database. The tables edit the document, and the document edits the tables. */
export default function TablesPage({ window }: PageProps) {
  const [search, change] = useAddress();
  const asked = search.get('table') ?? '';
  const doc = useDocument(window, asked);
  const { data, error, refetch } = doc.meaning;
  const first = data?.tables.find((t) => t.resource)?.table ?? data?.tables[0]?.table;
  useEffect(() => {
    if (asked === '' && first) change({ table: first });
  }, [asked, first, change]);
  useUndoKeys(doc);
  if (!data) return <Waiting what="the tables" error={error} again={() => void refetch()} />;
  const entry = data.tables.find((t) => t.table === asked);
  return (
    <Panes
      panes={[
        {
          id: 'tree',
          size: 20,
          content: (
            <SchemaTree
              tables={data.tables}
              chosen={asked}
              busy={doc.edits.isPending}
              onChoose={(table) => change({ table })}
              onEdit={(list) => doc.edits.mutate(list)}
            />
          ),
        },
        {
          id: 'table',
          size: 52,
          min: 34,
          content: entry ? (
            <TablePane key={entry.table} window={window} entry={entry} doc={doc} />
          ) : (
            <Empty>
              {asked ? `The database has no table ${asked} any more.` : 'Choose a table to see what callers see of it.'}
            </Empty>
          ),
        },
        {
          id: 'document',
          size: 28,
          min: 18,
          content: <DocumentPane window={window} doc={doc} lines={entry && entry.line > 0 ? entry : undefined} />,
        },
      ]}
    />
  );
}

interface DocumentPaneProps {
  window: string;
  doc: Edits;
  lines: { line: number; end: number } | undefined;
}

/** The document's own lines, what is wrong with them, and the buttons that save or undo. */
function DocumentPane({ window, doc, lines }: DocumentPaneProps) {
  const live = useWindows().data?.find((w) => w.name === window)?.live_release ?? 0;
  const { data } = doc.meaning;
  const mistakes = data?.mistakes ?? [];
  return (
    <Flex direction="column" height="100%" data-part="document">
      <Box flex="1" minHeight="0">
        <Pane
          title="Document"
          note="its own lines"
          aside={
            doc.dirty ? <chakra.span color="amber">not saved</chakra.span> : `version ${String(data?.version ?? '')}`
          }
        >
          <Editor
            label="Window document"
            text={doc.text}
            onChange={doc.type}
            onSubmit={() => doc.dirty && doc.store()}
            extensions={extensions}
            mistakes={mistakes}
            chosen={lines}
            height="100%"
          />
        </Pane>
      </Box>
      <Box borderTopWidth="1px" padding="14px 16px" maxHeight="45%" overflowY="auto" aria-live="polite">
        <Flex gap="8px" wrap="wrap" align="center">
          <MainButton
            type="button"
            disabled={!doc.dirty || doc.save.isPending || mistakes.length > 0}
            onClick={doc.store}
          >
            Save draft
          </MainButton>
          <QuietButton type="button" disabled={!doc.undo} title="Ctrl Z" onClick={doc.undo}>
            Undo
          </QuietButton>
          <QuietButton type="button" disabled={!doc.redo} title="Ctrl Shift Z" onClick={doc.redo}>
            Redo
          </QuietButton>
          {doc.dirty && <TextButton onClick={doc.discard}>discard</TextButton>}
        </Flex>
        <Box marginTop="10px" color="muted">
          {doc.save.error && <Problem>{doc.save.error.message}</Problem>}
          {doc.edits.error && <Problem>{doc.edits.error.message}</Problem>}
          {mistakes.map((m) => (
            <Problem key={`${String(m.line)} ${m.message}`}>
              {m.line ? `line ${String(m.line)}: ` : ''}
              {m.message}
            </Problem>
          ))}
          {doc.behind && (
            <Box color="amber" marginBottom="6px">
              {data?.saved_by} saved the draft meanwhile. Saving puts your edits together with theirs.
            </Box>
          )}
          {mistakes.length === 0 && <Meaning doc={doc} live={live} />}
          {data?.warnings.map((w) => (
            <Box key={w} color="amber" marginTop="6px">
              ◆ {w}
            </Box>
          ))}
        </Box>
      </Box>
    </Flex>
  );
}

const extensions = [yaml(), lineNumbers()];

/** What saving and publishing would mean. */
function Meaning({ doc, live }: { doc: Edits; live: number }) {
  const { data } = doc.meaning;
  const changes = data?.changes;
  const sum = changes ? changes.breaking + changes.compatible + changes.internal : 0;
  if (live === 0)
    return <span>Valid for the database as it is now. Callers see nothing of it before you publish.</span>;
  return (
    <span>
      Valid for the database as it is now.{' '}
      {sum === 0 ? 'Callers would see no difference.' : `${counted(sum, 'change')} against release ${String(live)}`}
      {changes && changes.breaking > 0 && <chakra.span color="brick">, {changes.breaking} breaking</chakra.span>}
      {sum > 0 && '. Live callers see nothing of it until you publish.'}
    </span>
  );
}

/** Ctrl Z undoes the last edit, where the cursor is in no text of its own. */
function useUndoKeys(doc: Edits) {
  const { undo, redo } = doc;
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      const at = e.target instanceof HTMLElement ? e.target : null;
      if (!(e.ctrlKey || e.metaKey) || e.key.toLowerCase() !== 'z') return;
      if (at?.closest('input:not([type=checkbox]), textarea, [contenteditable=true]')) return;
      e.preventDefault();
      (e.shiftKey ? redo : undo)?.();
    };
    addEventListener('keydown', pressed);
    return () => removeEventListener('keydown', pressed);
  }, [undo, redo]);
}
