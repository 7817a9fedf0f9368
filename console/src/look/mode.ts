import { useEffect, useState } from 'react';

type Mode = 'dark' | 'light';

const kept = 'eager-mode';

function preferred(): Mode {
  const stored = localStorage.getItem(kept);
  if (stored === 'dark' || stored === 'light') return stored;
  return matchMedia('(prefers-color-scheme: light)').matches ? 'light' : 'dark';
}

/** The colour mode: the system's until the operator chooses. */
export function useMode(): [Mode, () => void] {
  const [mode, setMode] = useState<Mode>(preferred);
  useEffect(() => {
    document.documentElement.classList.toggle('dark', mode === 'dark');
    document.documentElement.classList.toggle('light', mode === 'light');
  }, [mode]);
  const toggle = () => {
    const next = mode === 'dark' ? 'light' : 'dark';
    localStorage.setItem(kept, next);
    setMode(next);
  };
  return [mode, toggle];
}
