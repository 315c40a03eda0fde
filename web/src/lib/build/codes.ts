/** The code that a name suggests: three letters of its first word, with a number where that is taken; empty: none. */
export function proposedCode(name: string, taken: readonly string[]): string {
  const [word = ''] = name
    .normalize('NFKD')
    .toUpperCase()
    .replace(/[^A-Z0-9\s-]/g, '')
    .split(/[\s-]+/)
    .filter((part) => part !== '');
  const code = word.slice(0, 3);
  if (code === '') return '';
  for (let n = 1; ; n++) {
    const next = n === 1 ? code : `${code}${n}`;
    if (!taken.includes(next)) return next;
  }
}

/** A host and a port written as one, `10.1.2.3:20000`; null: it is not that. */
export function hostAndPort(text: string): { host: string; port: number } | null {
  const [, host, digits] = /^([A-Za-z0-9._-]+):(\d{1,5})$/.exec(text.trim()) ?? [];
  if (host === undefined) return null;
  return { host, port: Number(digits) };
}
