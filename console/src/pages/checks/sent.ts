export interface Sent {
  method: string;
  path: string;
  actAs: string;
  body: string;
}

/** A request as a result tells it: the method and path, who it was sent as, the body. */
export function sentOf(text: string): Sent {
  const [first = '', ...rest] = text.split('\n');
  const at = first.indexOf(' ');
  const actAs = rest[0]?.startsWith('Act-As: ') ? (rest.shift() ?? '').slice(8) : '';
  return {
    method: first.slice(0, at),
    path: `/${first.slice(at + 1).replace(/^\//, '')}`,
    actAs,
    body: rest.join('\n'),
  };
}
