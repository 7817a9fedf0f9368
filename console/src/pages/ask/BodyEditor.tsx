import {
  autocompletion,
  closeBrackets,
  completionKeymap,
  insertCompletionText,
  pickedCompletion,
  type Completion,
  type CompletionContext,
} from '@codemirror/autocomplete';
import { json } from '@codemirror/lang-json';
import { syntaxTree } from '@codemirror/language';
import type { EditorState } from '@codemirror/state';
import { keymap, type EditorView } from '@codemirror/view';
import { useEffect, useMemo, useRef } from 'react';

import { useSettled } from '../../api/hooks';
import { Editor, type Mistake } from '../../look/Editor';
import type { BodyField } from './writing';

interface BodyEditorProps {
  text: string;
  onChange: (text: string) => void;
  onSend: () => void;
  /** The fields that are possible at a path of relations. */
  fieldsAt: FieldsAt;
}

type FieldsAt = (within: string[]) => Promise<BodyField[]>;

type Node = ReturnType<ReturnType<typeof syntaxTree>['resolveInner']>;

/** The names of the members around a place, outermost first. */
function around(state: EditorState, from: Node | null): string[] {
  const names: string[] = [];
  for (let n = from; n; n = n.parent) {
    const name = n.name === 'Property' ? n.getChild('PropertyName') : null;
    if (name) names.unshift(nameText(state, name));
  }
  return names;
}

const nameText = (state: EditorState, n: { from: number; to: number }) =>
  state.sliceDoc(n.from, n.to).replace(/^"|"$/g, '');

/** What can be written at the cursor: names of fields, or the values of the field before it. */
async function complete(context: CompletionContext, fieldsAt: FieldsAt) {
  const { state, pos } = context;
  const inner = syntaxTree(state).resolveInner(pos, -1);
  const property = inner.name === 'Property' ? inner : inner.parent?.name === 'Property' ? inner.parent : null;
  const before = state.sliceDoc(state.doc.lineAt(pos).from, pos);
  const name = property?.getChild('PropertyName');
  if (property && name && /:\s*["\w.-]*$/.test(before)) {
    const path = around(state, property.parent);
    const field = (await fieldsAt(path)).find((f) => f.name === nameText(state, name));
    const typed = /["\w.-]*$/.exec(before)?.[0] ?? '';
    return field && field.values.length > 0
      ? { from: pos - typed.length, options: field.values.map((v) => ({ label: v, apply: taking(v) })) }
      : null;
  }
  const typed = /"?[\w@.]*$/.exec(before)?.[0] ?? '';
  if (!/(^|[{,])\s*"?[\w@.]*$/.test(before) || (!context.explicit && !typed.startsWith('"'))) return null;
  let object: Node | null = inner;
  while (object && object.name !== 'Object') object = object.parent;
  const there = (object?.getChildren('Property') ?? [])
    .map((p) => p.getChild('PropertyName'))
    .filter((n) => n !== null && !(n.from <= pos && pos <= n.to))
    .map((n) => (n ? nameText(state, n) : ''));
  return {
    from: pos - typed.length,
    options: (await fieldsAt(around(state, object)))
      .filter((f) => !there.includes(f.name))
      .map((f) => ({
        label: `"${f.name}"`,
        apply: taking(`"${f.name}": `),
        detail: f.required ? `${f.kind}, required` : f.kind,
        info: f.about || undefined,
        boost: f.required ? 1 : 0,
      })),
  };
}

/** Puts in what was chosen. A quote that was closed by itself goes with what it replaces. */
function taking(text: string) {
  return (view: EditorView, chosen: Completion, from: number, to: number) => {
    const end = view.state.sliceDoc(to, to + 1) === '"' ? to + 1 : to;
    view.dispatch({
      ...insertCompletionText(view.state, text, from, end),
      annotations: pickedCompletion.of(chosen),
    });
  };
}

/** An editor of JSON that knows what may be in the body. */
export function BodyEditor({ text, onChange, onSend, fieldsAt }: BodyEditorProps) {
  const typed = useSettled(text);
  const mistakes = useMemo(() => mistakesOf(typed), [typed]);
  const now = useRef(fieldsAt);
  useEffect(() => {
    now.current = fieldsAt;
  });
  return (
    <Editor
      label="Body"
      text={text}
      onChange={onChange}
      onSubmit={onSend}
      hint="The body, as JSON. A quote offers the fields."
      mistakes={mistakes}
      extensions={[
        closeBrackets(),
        keymap.of(completionKeymap),
        json(),
        // eslint-disable-next-line react-hooks/refs -- it is read when something is completed
        autocompletion({ override: [(c) => complete(c, (within) => now.current(within))], icons: false }),
      ]}
      height="100%"
      data-part="body"
    />
  );
}

/** Where a text is no JSON, as the browser says it. */
function mistakesOf(text: string): Mistake[] {
  if (text.trim() === '') return [];
  try {
    JSON.parse(text);
    return [];
  } catch (e) {
    const message = e instanceof Error ? e.message : String(e);
    const at = /line (\d+) column (\d+)/.exec(message);
    const lines = text.split('\n');
    return [{ message, line: Number(at?.[1] ?? lines.length), column: Number(at?.[2] ?? lines.at(-1)?.length ?? 1) }];
  }
}
