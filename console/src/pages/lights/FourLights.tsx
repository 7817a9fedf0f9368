import { chakra } from '@chakra-ui/react';

import type { Light } from '../../api/service';

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
        return <OneLight key={i} light={light} x={x} y={y} />;
      })}
      <chakra.path fill="none" stroke="mullion" d="M0.5 0.5h41v27h-41z" />
    </chakra.svg>
  );
}

function OneLight({ light, x, y }: { light: Light; x: number; y: number }) {
  const [w, h] = [19, 12];
  if (light === 'none')
    return <chakra.path stroke="faint" strokeWidth="1.5" d={`M${String(x + 6)} ${String(y + 6)}h7`} />;
  return (
    <>
      <chakra.rect x={x} y={y} width={w} height={h} fill={light === 'lit' ? 'lit' : 'unlit'} />
      {light === 'half' && (
        <chakra.path fill="lit" d={`M${String(x)} ${String(y)}h${String(w)}l-${String(w)} ${String(h)}z`} />
      )}
    </>
  );
}

/** One light by itself, beside the word that says the same. */
export function Lamp({ light }: { light: Light }) {
  return (
    <chakra.svg viewBox="0 0 12 12" width="12px" height="12px" aria-hidden="true" flex="none" marginTop="5px">
      {light === 'none' ? (
        <chakra.path stroke="faint" strokeWidth="1.5" d="M3 6h6" />
      ) : (
        <>
          <chakra.rect width="12" height="12" fill={light === 'lit' ? 'lit' : 'unlit'} />
          {light === 'half' && <chakra.path fill="lit" d="M0 0h12L0 12z" />}
        </>
      )}
    </chakra.svg>
  );
}
