import { useEffect, useState } from 'react';

/** A text that is being edited: what is not saved is there again after going elsewhere, and after a reload. */
export function useKeptText(key: string, saved: string) {
  const [text, setText] = useState(() => sessionStorage.getItem(key) ?? saved);
  useEffect(() => {
    try {
      if (text === saved) sessionStorage.removeItem(key);
      else sessionStorage.setItem(key, text);
    } catch {
      // the browser has no room for it
    }
  }, [key, text, saved]);
  return [text, setText] as const;
}
