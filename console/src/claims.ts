const prefix = 'claim.';

/** The caller's claims in a page's address, where each has a prefix, so that no name of one is taken for something else. */
export const claimsIn = (search: URLSearchParams): Record<string, string> =>
  Object.fromEntries(
    [...search.entries()].filter(([n]) => n.startsWith(prefix)).map(([n, v]) => [n.slice(prefix.length), v]),
  );

/** Claims as parameters of a page's address. */
export const claimParams = (claims: Record<string, string>): Record<string, string> =>
  Object.fromEntries(Object.entries(claims).map(([n, v]) => [prefix + n, v]));
