/** Who a request is sent as; without roles it is the operator. */
export interface Speaker {
  roles: string[];
  claims: Record<string, string>;
}

/** The Act-As header of a speaker (RFC 9651), or nothing for the operator. The claims go with the first role. */
export function actAs({ roles, claims }: Speaker): string | undefined {
  const [first, ...others] = roles;
  if (first === undefined) return undefined;
  const values = Object.entries(claims).map(
    ([name, v]) => `;${name}=${/^-?\d{1,15}$/.test(v) ? v : JSON.stringify(v)}`,
  );
  return [first + values.join(''), ...others].join(', ');
}

/** Reads an Act-As header, as far as the first role and all claims go. */
export function speakerOf(header: string): { role: string; claims: Record<string, string> } {
  const parts = header.match(/;[^=;,]+=("(?:[^"\\]|\\.)*"|[^;,]+)/g) ?? [];
  const claims = Object.fromEntries(
    parts.map((p) => {
      const at = p.indexOf('=');
      const value = p.slice(at + 1);
      return [p.slice(1, at), value.startsWith('"') ? (JSON.parse(value) as string) : value];
    }),
  );
  const role = header
    .replace(/;[^=;,]+=("(?:[^"\\]|\\.)*"|[^;,]+)/g, '')
    .split(',')
    .map((r) => r.trim())
    .filter((r) => r !== 'operator')
    .join(',');
  return { role, claims };
}
