/**
 * Plain progress on the terminal: what is done, and how long it took.
 * @param {string} words
 */
export function say(words) {
  process.stdout.write(`${words}\n`);
}

/**
 * Runs one step; says that it goes on when it takes long.
 * @template T
 * @param {string} words
 * @param {() => Promise<T>} work
 * @returns {Promise<T>}
 */
export async function step(words, work) {
  const began = Date.now();
  const seconds = () => `${((Date.now() - began) / 1000).toFixed(1)} s`;
  const timer = setInterval(() => say(`  … ${words}: ${seconds()} so far`), 5000);
  try {
    const result = await work();
    say(`  ${words}: ${seconds()}`);
    return result;
  } finally {
    clearInterval(timer);
  }
}

/** Something that the person at the terminal can mend: no stack trace. */
export class Trouble extends Error {}

/** @param {unknown} error */
export function fail(error) {
  if (error instanceof Trouble) process.stderr.write(`\n${error.message}\n`);
  else process.stderr.write(`\n${error instanceof Error ? error.stack : String(error)}\n`);
  process.exitCode = 1;
}
