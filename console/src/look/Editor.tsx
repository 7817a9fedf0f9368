import { history, historyKeymap, standardKeymap } from '@codemirror/commands';
import { EditorState, StateEffect, StateField, type Extension } from '@codemirror/state';
import { Decoration, EditorView, keymap, placeholder, type DecorationSet } from '@codemirror/view';
import { Box } from '@chakra-ui/react';
import { useEffect, useRef, type ComponentProps } from 'react';

import { editorLook, inks } from './editorLook';
import { styleNonce } from './nonce';

/** A mistake at a line and column, both from 1. */
export interface Mistake {
  line?: number;
  column?: number;
  message: string;
}

interface EditorProps extends Omit<ComponentProps<typeof Box>, 'onChange'> {
  label: string;
  text: string;
  onChange: (text: string) => void;
  /** What is done at Ctrl Enter. */
  onSubmit?: () => void;
  /** Languages, completion; taken when the editor is made. */
  extensions?: Extension;
  hint?: string;
  mistakes?: Mistake[];
  /** Lines that are chosen, from 1, and are brought into sight. */
  chosen?: { line: number; end: number };
}

const tell = StateEffect.define<Mistake[]>();

/** What is wrong, underlined; its words show where the pointer rests. */
const wrongPlaces = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(set, tr) {
    for (const e of tr.effects)
      if (e.is(tell))
        return Decoration.set(
          e.value.map((m) => underlined(tr.state, m)),
          true,
        );
    return set.map(tr.changes);
  },
  provide: (f) => EditorView.decorations.from(f),
});

const choose = StateEffect.define<{ line: number; end: number }>();

const chosenLines = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(set, tr) {
    for (const e of tr.effects) {
      if (!e.is(choose)) continue;
      const lines = [];
      for (let n = e.value.line; n > 0 && n <= Math.min(e.value.end, tr.state.doc.lines); n++)
        lines.push(Decoration.line({ class: 'cm-chosen' }).range(tr.state.doc.line(n).from));
      return Decoration.set(lines);
    }
    return set.map(tr.changes);
  },
  provide: (f) => EditorView.decorations.from(f),
});

/** A text that a machine reads, to be edited. */
export function Editor({ label, text, onChange, onSubmit, extensions, hint, mistakes, chosen, ...box }: EditorProps) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const now = useRef({ onChange, onSubmit });
  useEffect(() => {
    now.current = { onChange, onSubmit };
  });
  useEffect(() => {
    const made = new EditorView({
      parent: place.current ?? undefined,
      state: EditorState.create({
        doc: text,
        extensions: [
          EditorView.cspNonce.of(styleNonce),
          keymap.of([
            {
              key: 'Mod-Enter',
              run: () => {
                now.current.onSubmit?.();
                return true;
              },
            },
            ...historyKeymap,
            ...standardKeymap,
          ]),
          history(),
          placeholder(hint ?? ''),
          inks,
          chosenLines,
          wrongPlaces,
          extensions ?? [],
          editorLook,
          EditorView.contentAttributes.of({ 'aria-label': label, tabindex: '0' }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) now.current.onChange(u.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, []); // eslint-disable-line react-hooks/exhaustive-deps
  useEffect(() => {
    const made = view.current;
    if (made && made.state.doc.toString() !== text) replace(made, text);
  }, [text]);
  const { line = 0, end = 0 } = chosen ?? {};
  useEffect(() => {
    const made = view.current;
    if (!made) return;
    made.dispatch({ effects: choose.of({ line, end }) });
    if (line > 0 && line <= made.state.doc.lines)
      made.dispatch({ effects: EditorView.scrollIntoView(made.state.doc.line(line).from, { y: 'center' }) });
  }, [line, end]);
  useEffect(() => {
    const made = view.current;
    if (made && mistakes) made.dispatch({ effects: tell.of(mistakes) });
  }, [mistakes]);
  return <Box ref={place} minHeight="0" overflow="hidden" {...box} />;
}

/** Puts another text in, as one change of the part that differs, so that the cursor stays where it can. */
function replace(view: EditorView, text: string) {
  const old = view.state.doc.toString();
  let from = 0;
  while (from < old.length && from < text.length && old[from] === text[from]) from++;
  let [oldEnd, newEnd] = [old.length, text.length];
  while (oldEnd > from && newEnd > from && old[oldEnd - 1] === text[newEnd - 1]) {
    oldEnd--;
    newEnd--;
  }
  view.dispatch({ changes: { from, to: oldEnd, insert: text.slice(from, newEnd) } });
}

function underlined(state: EditorState, m: Mistake) {
  const line = state.doc.line(Math.min(Math.max(m.line ?? 1, 1), state.doc.lines));
  const from = Math.min(line.from + Math.max((m.column ?? 1) - 1, 0), line.to);
  const word = /^[\w$@.-]+/.exec(state.sliceDoc(from, line.to))?.[0].length ?? 1;
  const to = Math.min(from + word, line.to);
  return from < to
    ? Decoration.mark({ class: 'cm-wrong', attributes: { title: m.message } }).range(from, to)
    : Decoration.line({ class: 'cm-wrong' }).range(line.from);
}
