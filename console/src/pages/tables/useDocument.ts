import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';

import { sketch, useSaveDraft, useSettled, type Sketch, type SketchEdit } from '../../api/hooks';

/** The document as it is being edited: its texts, one for each edit, of which the one at hand can be gone back from. */
interface Edited {
  /** The version of the draft that it was made of. */
  base: number;
  texts: string[];
  at: number;
}

const nothing: Edited = { base: 0, texts: [], at: 0 };

/** For how long what is typed belongs to one edit, in milliseconds. */
const together = 1200;

/** How many edits can be undone. */
const most = 200;

function kept(key: string): Edited {
  try {
    return (JSON.parse(sessionStorage.getItem(key) ?? '') as Edited | null) ?? nothing;
  } catch {
    return nothing;
  }
}

/** Keeps the edits for a reload: all of them, or the text at hand alone where the browser has no room for more. */
function keep(key: string, edited: Edited) {
  sessionStorage.removeItem(key);
  const { base, texts, at } = edited;
  if (texts.length === 0) return;
  for (const one of [edited, { base, texts: [texts[0], texts[at]], at: 1 }]) {
    try {
      sessionStorage.setItem(key, JSON.stringify(one));
      return;
    } catch {
      // there is no room for it
    }
  }
}

/** The draft's document while it is edited, and what it means. What is not saved is there after a reload as well. */
export function useDocument(window: string, table: string) {
  const cache = useQueryClient();
  const key = `eager-edits ${window}`;
  const [edited, setEdited] = useState(() => kept(key));
  const [typedAt, setTypedAt] = useState(0);
  useEffect(() => {
    keep(key, edited);
  }, [key, edited]);

  const text = edited.texts[edited.at] ?? '';
  const read = useSettled(text);
  const meaning = useQuery({
    queryKey: ['sketch', window, read, table],
    queryFn: ({ signal }) => sketch(window, { ...(read ? { document: read } : {}), table }, signal),
    placeholderData: keepPreviousData,
  });
  const now = meaning.data;
  const shown = text || now?.document || '';

  /** Adds a text after the one at hand; those that were undone are gone. */
  const push = (next: string, typed = false) => {
    if (!now || next === shown) return;
    const at = Date.now();
    setTypedAt(typed ? at : 0);
    setEdited((e) => {
      const texts = e.texts.length > 0 ? e.texts.slice(0, e.at + 1) : [shown];
      if (typed && at - typedAt < together && texts.length > 1) texts.pop();
      const all = [...texts, next].slice(-most);
      return { base: e.base || now.version, texts: all, at: all.length - 1 };
    });
  };
  const latest = useRef('');
  useEffect(() => {
    latest.current = shown;
  }, [shown]);
  // One after the other, each of what the one before has made, however fast the clicks come.
  const edits = useMutation({
    scope: { id: key },
    mutationFn: (list: SketchEdit[]) => sketch(window, { document: latest.current, edits: list, table }),
    onSuccess: (made: Sketch) => {
      latest.current = made.document;
      cache.setQueryData(['sketch', window, made.document, table], made);
      push(made.document);
    },
  });
  const save = useSaveDraft(window);
  return {
    text: shown,
    meaning,
    /** Whether there is something to save. */
    dirty: edited.texts.length > 0 && text !== edited.texts[0],
    /** Whether others have saved the draft since the edits began. */
    behind: edited.base > 0 && !!now && now.version > edited.base,
    edits,
    save,
    type: (next: string) => push(next, true),
    undo: edited.at > 0 ? () => setEdited((e) => ({ ...e, at: e.at - 1 })) : undefined,
    redo: edited.at < edited.texts.length - 1 ? () => setEdited((e) => ({ ...e, at: e.at + 1 })) : undefined,
    discard: () => setEdited(nothing),
    store: () => save.mutate({ document: shown, base: edited.base }, { onSuccess: () => setEdited(nothing) }),
  };
}

export type Edits = ReturnType<typeof useDocument>;
