import { autocompletion, closeBrackets, completionKeymap } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { EditorState } from '@codemirror/state';
import { EditorView, keymap, placeholder } from '@codemirror/view';
import { Box } from '@chakra-ui/react';
import { useEffect, useRef } from 'react';

import type { Model, Resource } from '../../api/service';
import { editorLook, styleNonce } from '../../look/code';
import { completeRule } from './rule';

interface RuleEditorProps {
  label: string;
  text: string;
  model: Model;
  resource: Resource;
  claims: string[];
  onChange: (text: string) => void;
}

/** An editor of a row rule, which offers what can stand in it. */
export function RuleEditor({ label, text, model, resource, claims, onChange }: RuleEditorProps) {
  const place = useRef<HTMLDivElement>(null);
  const now = useRef(onChange);
  useEffect(() => {
    now.current = onChange;
  });
  useEffect(() => {
    const view = new EditorView({
      parent: place.current ?? undefined,
      state: EditorState.create({
        doc: text,
        extensions: [
          EditorView.cspNonce.of(styleNonce),
          keymap.of([...completionKeymap, ...historyKeymap, ...defaultKeymap]),
          history(),
          closeBrackets(),
          autocompletion({ override: [(c) => completeRule(c, model, resource, claims)], icons: false }),
          placeholder('every row'),
          EditorView.lineWrapping,
          EditorView.theme({ '.cm-content': { padding: '5px 4px' } }), // the first of two wins
          editorLook,
          EditorView.contentAttributes.of({ 'aria-label': label }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) now.current(u.state.doc.toString().replaceAll('\n', ' '));
          }),
        ],
      }),
    });
    return () => view.destroy();
  }, []); // eslint-disable-line react-hooks/exhaustive-deps
  return <Box ref={place} borderWidth="1px" borderRadius="2px" bg="pane" minHeight="34px" />;
}
