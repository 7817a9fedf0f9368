import { autocompletion, closeBrackets, completionKeymap } from '@codemirror/autocomplete';
import { EditorView, keymap } from '@codemirror/view';

import type { Model, Resource } from '../../api/hooks';
import { Editor } from '../../look/Editor';
import { completeRule } from './rule';

interface RuleEditorProps {
  label: string;
  text: string;
  model: Model;
  resource: Resource;
  claims: string[];
  onChange: (text: string) => void;
}

/** An editor of a row rule, which offers what can be in it. */
export function RuleEditor({ label, text, model, resource, claims, onChange }: RuleEditorProps) {
  return (
    <Editor
      label={label}
      text={text}
      hint="every row"
      extensions={[
        closeBrackets(),
        keymap.of(completionKeymap),
        autocompletion({ override: [(c) => completeRule(c, model, resource, claims)], icons: false }),
        EditorView.lineWrapping,
        EditorView.theme({ '.cm-content': { padding: '5px 4px' } }), // the first of two wins
      ]}
      onChange={(next) => onChange(next.replaceAll('\n', ' '))}
      borderWidth="1px"
      borderRadius="2px"
      bg="ground"
      minHeight="32px"
    />
  );
}
