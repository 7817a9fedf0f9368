import { useQueryClient } from '@tanstack/react-query';
import { useRef, useState } from 'react';

import { runChecks, type CheckResult } from '../../api/hooks';

/** A run that this page has begun, as its results come. */
export function useRunning(window: string) {
  const cache = useQueryClient();
  const [results, setResults] = useState<CheckResult[] | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const [on, setOn] = useState(false);
  const control = useRef<AbortController | null>(null);
  const start = (suites: string[]) => {
    const mine = new AbortController();
    control.current = mine;
    let got: CheckResult[] = [];
    setResults(got);
    setError(null);
    setOn(true);
    // Results come by hundreds: the page is drawn once for many.
    const draw = setInterval(() => setResults(got), 150);
    runChecks(window, { suites }, (r) => (got = [...got, r]), mine.signal)
      .catch((e: unknown) => {
        if (!mine.signal.aborted) setError(e instanceof Error ? e : new Error(String(e)));
      })
      .finally(() => {
        clearInterval(draw);
        setResults(got);
        setOn(false);
        void cache.invalidateQueries({ queryKey: ['runs', window] }).then(() => setResults(null));
        void cache.invalidateQueries({ queryKey: ['windows'] });
      });
  };
  return { on, results, error, start, stop: () => control.current?.abort() };
}

export type Running = ReturnType<typeof useRunning>;
