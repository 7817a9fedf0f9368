import { useCallback } from 'react';
import { useSearchParams } from 'wouter';

/** What the page's address says after its path, and what changes some of it: an empty text takes a part out, the others stay. */
export function useAddress(): [URLSearchParams, (next: Record<string, string>) => void] {
  const [search, setSearch] = useSearchParams();
  const change = useCallback(
    (next: Record<string, string>) => {
      setSearch(
        (now) => {
          const params = new URLSearchParams(now);
          for (const [name, value] of Object.entries(next)) {
            if (value === '') params.delete(name);
            else params.set(name, value);
          }
          return params;
        },
        { replace: true },
      );
    },
    [setSearch],
  );
  return [search, change];
}
