import dagre from '@dagrejs/dagre';

import type { Model } from '../../api/hooks';

export const nodeWidth = 150;
export const nodeHeight = 46;

/** From how many on a quicker way to lay them out is taken. */
const large = 150;

export interface Drawn {
  places: Map<string, { x: number; y: number }>;
  lines: { from: string; to: string; name: string }[];
}

/** The place of each resource, and which are joined by a line. Those that nothing leads to are below, in rows. */
export function layOut(model: Model): Drawn {
  const lines = new Map<string, Drawn['lines'][number]>();
  for (const r of model.resources)
    for (const rel of r.relations) {
      const pair = [r.name, rel.to].sort().join(' ');
      if (rel.to !== r.name && !lines.has(pair)) lines.set(pair, { from: r.name, to: rel.to, name: rel.name });
    }
  const joined = new Set([...lines.values()].flatMap((l) => [l.from, l.to]));
  const graph = new dagre.graphlib.Graph();
  const ranker = joined.size > large ? 'longest-path' : 'network-simplex';
  graph.setGraph({ rankdir: 'LR', nodesep: 26, ranksep: 90, marginx: 20, marginy: 20, ranker });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const name of joined) graph.setNode(name, { width: nodeWidth, height: nodeHeight });
  for (const l of lines.values()) graph.setEdge(l.from, l.to);
  if (joined.size > 0) dagre.layout(graph);
  const places = new Map<string, { x: number; y: number }>();
  let [wide, deep] = [0, 0];
  for (const name of joined) {
    const { x, y } = graph.node(name);
    places.set(name, { x: x - nodeWidth / 2, y: y - nodeHeight / 2 });
    wide = Math.max(wide, x + nodeWidth / 2);
    deep = Math.max(deep, y + nodeHeight / 2);
  }
  const across = Math.max(4, Math.floor(wide / (nodeWidth + 40)));
  model.resources
    .filter((r) => !joined.has(r.name))
    .forEach((r, i) =>
      places.set(r.name, {
        x: 20 + (i % across) * (nodeWidth + 40),
        y: deep + 50 + Math.floor(i / across) * (nodeHeight + 26),
      }),
    );
  return { places, lines: [...lines.values()] };
}
