import { chakra } from '@chakra-ui/react';

import type { Light } from '../../api/hooks';

/** What a light says in words. */
export const saying: Record<Light, string> = {
  none: 'not possible',
  dark: 'not granted',
  half: 'some rows or fields',
  lit: 'all',
};

/** The operations in the order of their lights: above create and read, below update and delete. */
export const operations = ['create', 'read', 'update', 'delete'] as const;

const places = [
  [1, 1],
  [22, 1],
  [1, 15],
  [22, 15],
] as const;

/** A window of four panes, one for each operation. */
export function FourLights({ lights }: { lights: Light[] }) {
  return (
    <chakra.svg viewBox="0 0 42 28" width="44px" height="30px" aria-hidden="true" display="inline-block">
      {lights.map((light, i) => {
        const [x, y] = places[i] ?? [0, 0];
        return <OneLight key={i} light={light} x={x} y={y} w={19} h={12} />;
      })}
      <chakra.path fill="none" stroke="mullion" d="M0.5 0.5h41v27h-41z" />
    </chakra.svg>
  );
}

/** A light, which differs in shape as well: full, half with a diagonal, an empty frame, a dash. */
function OneLight({ light, x, y, w, h }: { light: Light; x: number; y: number; w: number; h: number }) {
  if (light === 'none')
    return <chakra.path stroke="stroke" strokeWidth="1.5" d={`M${String(x + w / 2 - 3)} ${String(y + h / 2)}h6`} />;
  if (light === 'lit')
    return <chakra.rect x={x} y={y} width={w} height={h} fill="lit" stroke="lit" strokeWidth="0.5" />;
  return (
    <>
      <chakra.rect
        x={x + 0.5}
        y={y + 0.5}
        width={w - 1}
        height={h - 1}
        fill="unlit"
        fillOpacity="0.45"
        stroke="mullion"
      />
      {light === 'half' && (
        <>
          <chakra.path fill="lit" d={`M${String(x)} ${String(y)}h${String(w)}l-${String(w)} ${String(h)}z`} />
          <chakra.path
            fill="none"
            stroke="stroke"
            strokeWidth="0.75"
            d={`M${String(x + w)} ${String(y)}l-${String(w)} ${String(h)}`}
          />
        </>
      )}
    </>
  );
}

/** One light by itself, beside the word that says the same. */
export function Lamp({ light }: { light: Light }) {
  return (
    <chakra.svg viewBox="0 0 12 12" width="12px" height="12px" aria-hidden="true" flex="none" marginTop="5px">
      <OneLight light={light} x={0} y={0} w={12} h={12} />
    </chakra.svg>
  );
}
