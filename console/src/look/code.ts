import { EditorView } from '@codemirror/view';

const color = (name: string) => `var(--chakra-colors-${name})`;

/** How editors look: as the rest of the console. */
export const editorLook = EditorView.theme({
  '&': { height: '100%', fontSize: '12.5px', color: color('chalk') },
  '&.cm-focused': { outline: 'none' },
  '.cm-scroller': { fontFamily: 'var(--chakra-fonts-mono)', lineHeight: '1.6' },
  '.cm-content': { padding: '12px 16px', caretColor: color('lit') },
  '.cm-cursor': { borderLeftColor: color('lit') },
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
});

/** The number that the page's content security policy asks of styles. */
export const styleNonce = document.querySelector<HTMLMetaElement>('meta[name=style-nonce]')?.content ?? '';
