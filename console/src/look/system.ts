import { createSystem, defaultBaseConfig, defineConfig } from '@chakra-ui/react';

/** A colour of the design by its dark and its light value. */
const both = (dark: string, light: string) => ({ value: { base: light, _dark: dark } });

/** The look of the console: tokens and type of the design. Text has a contrast of 4.5:1 at least on every ground that it is on. */
export const system = createSystem(
  defaultBaseConfig,
  defineConfig({
    preflight: true,
    theme: {
      tokens: {
        fonts: {
          body: { value: "'Instrument Sans Variable', sans-serif" },
          heading: { value: "'Instrument Sans Variable', sans-serif" },
          mono: { value: "'JetBrains Mono Variable', monospace" },
        },
      },
      semanticTokens: {
        colors: {
          ground: both('#0f1720', '#f3f0e8'),
          pane: both('#121c27', '#faf8f3'),
          raised: both('#182431', '#efebe0'),
          mullion: both('#2b3947', '#cfc9ba'),
          chalk: both('#e9e6dc', '#1a2530'),
          muted: both('#93a1af', '#55636f'),
          faint: both('#7f8d9a', '#626b67'),
          stroke: both('#64727f', '#8a938f'), // of marks that are no text
          glass: both('#7cc9a8', '#1f6b51'),
          amber: both('#e6ad4c', '#855200'),
          brick: both('#e98d75', '#a5391f'),
          lit: both('#f3c969', '#f2bf45'),
          unlit: both('#1d2935', '#e2ddd0'),
          sel: both('#22374a', '#dfe7e6'),
          code: both('#b9d3e6', '#22506f'),
          onlit: both('#0f1720', '#1a2530'),
          added: both('#173a33', '#d5e8dd'),
          gone: both('#43282a', '#f3dcd3'),
        },
      },
    },
    globalCss: {
      'html, body, #root': { height: '100%' },
      body: {
        bg: 'ground',
        color: 'chalk',
        fontFamily: 'body',
        fontSize: '14px',
        lineHeight: 1.5,
        fontVariantNumeric: 'tabular-nums',
        margin: 0,
      },
      '*:focus-visible': { outline: '2px solid', outlineColor: 'lit', outlineOffset: '1px' },
      '[data-part=splitter] [data-part=resize-trigger]:focus-visible': { outlineOffset: '0' },
      '::selection': { bg: 'sel' },
      '*::placeholder': { color: 'faint', opacity: 1 },
      '*': { borderColor: 'mullion', scrollbarColor: '{colors.mullion} transparent', scrollbarWidth: 'thin' },
    },
  }),
);
