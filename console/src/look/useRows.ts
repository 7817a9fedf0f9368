import { useVirtualizer } from '@tanstack/react-virtual';
import type { RefObject } from 'react';

/** The rows of a long list that are in sight, with the heights of those before and after them. */
export function useRows(count: number, scroller: RefObject<HTMLElement | null>, height: number) {
  // eslint-disable-next-line react-hooks/incompatible-library -- what it returns is read in the same render alone
  const list = useVirtualizer({
    count,
    getScrollElement: () => scroller.current,
    estimateSize: () => height,
    overscan: 12,
    initialRect: { width: 800, height: 800 },
  });
  const rows = list.getVirtualItems();
  return {
    rows: rows.map((r) => r.index),
    before: rows[0]?.start ?? 0,
    after: list.getTotalSize() - (rows.at(-1)?.end ?? 0),
    show: (index: number) => list.scrollToIndex(index, { align: 'auto' }),
  };
}
