import { useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';

import { forgetWindow } from '../api/hooks';

interface Event {
  kind: 'draft' | 'release' | 'source' | 'drift' | 'run';
  window: string;
}

/** Reads anew what others change, as they do: edits, releases, drift, runs of checks. */
export function useLive(on: boolean) {
  const cache = useQueryClient();
  useEffect(() => {
    if (!on) return;
    const events = new EventSource('/manage/events');
    let opened = false;
    events.onopen = () => {
      // What became different while the service was away has not been heard of.
      if (opened) void cache.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' });
      opened = true;
    };
    events.onmessage = (e: MessageEvent<string>) => {
      const { kind, window } = JSON.parse(e.data) as Event;
      if (kind === 'run') {
        void cache.invalidateQueries({ queryKey: ['runs', window] });
        void cache.invalidateQueries({ queryKey: ['windows'] });
      } else if (kind === 'source') void cache.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'session' });
      else void forgetWindow(cache, window);
    };
    return () => events.close();
  }, [on, cache]);
}
