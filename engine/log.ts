/** One line of JSON for each thing worth telling; never a secret, never a value from the field. */
export function log(level: 'info' | 'warning' | 'error', words: string, fields: Record<string, unknown> = {}): void {
  try {
    process.stdout.write(`${JSON.stringify({ time: new Date().toISOString(), level, words, ...fields })}\n`);
  } catch {
    // A full disk takes no log; what it would say shows in the health.
  }
}

export const reason = (error: unknown): string => {
  if (!(error instanceof Error)) return String(error);
  const { cause } = error;
  return cause instanceof Error
    ? cause.message || String((cause as { code?: string }).code)
    : error.message || error.name;
};
