/** A number as people read it. */
export const count = (n: number) => n.toLocaleString('en');

/** A number with what it counts. */
export const counted = (n: number, one: string, many = `${one}s`) => `${count(n)} ${n === 1 ? one : many}`;

/** Bytes as people read them. */
export function bytes(n: number): string {
  if (n < 1024) return `${String(n)} B`;
  return n < 1 << 20 ? `${(n / 1024).toFixed(1)} kB` : `${(n / (1 << 20)).toFixed(1)} MB`;
}

/** Milliseconds as people read them. */
export function took(ms: number): string {
  if (ms >= 10_000) return `${(ms / 1000).toFixed(0)} s`;
  if (ms >= 1000) return `${(ms / 1000).toFixed(1)} s`;
  return ms >= 100 ? `${ms.toFixed(0)} ms` : `${ms.toFixed(1)} ms`;
}

/** How long ago a moment was, as people say it. */
export function ago(moment: string): string {
  const seconds = Math.max(0, (Date.now() - Date.parse(moment)) / 1000);
  if (seconds < 60) return 'just now';
  if (seconds < 3600) return counted(Math.floor(seconds / 60), 'minute') + ' ago';
  if (seconds < 86_400) return counted(Math.floor(seconds / 3600), 'hour') + ' ago';
  return counted(Math.floor(seconds / 86_400), 'day') + ' ago';
}

/** A moment in the reader's own time. */
export const local = (moment: string) =>
  new Date(moment).toLocaleString('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });

/** A moment in UTC, for those who compare it with a log. */
export const utc = (moment: string) => new Date(moment).toISOString().replace('T', ' ').replace(/\..*$/, ' UTC');

/** JSON with its parts on lines of their own; another text as it is. */
export function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}
