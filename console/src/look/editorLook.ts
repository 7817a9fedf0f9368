import { HighlightStyle, syntaxHighlighting } from '@codemirror/language';
import { EditorView } from '@codemirror/view';
import { tags } from '@lezer/highlight';

const color = (name: string) => `var(--chakra-colors-${name})`;

/** How editors look: as the rest of the console. */
export const editorLook = EditorView.theme({
  '&': { height: '100%', fontSize: '12.5px', color: color('chalk') },
  '&.cm-focused': { outline: 'none' },
  '.cm-scroller': { fontFamily: 'var(--chakra-fonts-mono)', lineHeight: '1.6' },
  '.cm-content': { padding: '12px 16px', caretColor: color('lit') },
  '.cm-cursor': { borderLeftColor: color('lit') },
  '.cm-gutters': { background: 'transparent', color: color('faint'), border: 'none', paddingLeft: '8px' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { background: `${color('sel')} !important` },
  '.cm-tooltip': {
    background: color('raised'),
    border: `1px solid ${color('mullion')}`,
    borderRadius: '2px',
    color: color('chalk'),
  },
  '.cm-tooltip-autocomplete > ul > li': { padding: '2px 8px' },
  '.cm-tooltip-autocomplete > ul > li[aria-selected]': { background: color('sel'), color: color('chalk') },
  '.cm-completionDetail': { color: color('muted'), fontStyle: 'normal', marginLeft: '14px' },
  '.cm-completionInfo': { maxWidth: '320px', padding: '6px 10px', color: color('muted') },
  '.cm-diagnostic-error': { borderLeftColor: color('brick') },
  '.cm-placeholder': { color: color('faint') },
  '.cm-wrong': { textDecoration: `underline wavy ${color('brick')}`, textDecorationSkipInk: 'none' },
  '.cm-chosen': { background: color('sel') },
});

/** Names, texts and values of JSON and YAML. */
export const inks = syntaxHighlighting(
  HighlightStyle.define([
    { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: color('code') },
    { tag: tags.string, color: color('glass') },
    { tag: [tags.number, tags.bool, tags.null], color: color('amber') },
    { tag: tags.comment, color: color('muted'), fontStyle: 'italic' },
  ]),
);
