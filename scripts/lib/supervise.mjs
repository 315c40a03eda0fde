import { existsSync, readFileSync } from 'node:fs';
import { launch, stopProcess } from './run.mjs';
import { say } from './say.mjs';

const FIRST_PAUSE_MS = 500;
const LONGEST_PAUSE_MS = 30_000;
/** A process that ran for so long begins anew with the shortest pause. */
const STEADY_MS = 60_000;
/** A setting is wrong: starting again changes nothing. */
const EXIT_BAD_SETTING = 2;

/**
 * Keeps a process running: one that ends is started again, after pauses that grow, whatever the others do. Only a
 * setting that is wrong ends it for good.
 */
export class Supervised {
  /**
   * @param {string} name
   * @param {{ args: string[], env: Record<string, string>, logFile: string, hopeless: (words: string) => void }} options
   */
  constructor(name, { args, env, logFile, hopeless }) {
    this.name = name;
    this.logFile = logFile;
    this.start = () => launch(name, args, env, logFile);
    this.hopeless = hopeless;
    this.stopping = false;
    this.pause = FIRST_PAUSE_MS;
    this.starts = 0;
    /** @type {ReturnType<typeof launch> | null} */
    this.current = null;
    /** @type {NodeJS.Timeout | null} */
    this.timer = null;
  }

  run() {
    const began = Date.now();
    this.starts++;
    const one = this.start();
    this.current = one;
    void one.ended.then((code) => {
      if (this.stopping) return;
      this.current = null;
      if (code === EXIT_BAD_SETTING) {
        this.hopeless(`${this.name} cannot run:\n${badSettings(this.logFile).join('\n')}`);
        return;
      }
      if (Date.now() - began > STEADY_MS) this.pause = FIRST_PAUSE_MS;
      say(`${this.name} ended with ${code} (see ${this.logFile}); it is started again in ${this.pause / 1000} s`);
      this.timer = setTimeout(() => this.run(), this.pause);
      this.pause = Math.min(LONGEST_PAUSE_MS, this.pause * 2);
    });
  }

  async stop() {
    this.stopping = true;
    if (this.timer !== null) clearTimeout(this.timer);
    if (this.current !== null) await stopProcess(this.current);
  }
}

/**
 * What the end of a log says of settings.
 * @param {string} logFile
 */
function badSettings(logFile) {
  if (!existsSync(logFile)) return ['  its log says nothing'];
  const words = readFileSync(logFile, 'utf8')
    .trimEnd()
    .split('\n')
    .slice(-20)
    .map(wordsOf)
    .filter((words) => words.startsWith('setting '))
    .map((words) => `  ${words.slice('setting '.length)}`);
  return words.length > 0 ? [...new Set(words)] : [`  see ${logFile}`];
}

/** @param {string} line */
function wordsOf(line) {
  try {
    const { words } = JSON.parse(line);
    return String(words);
  } catch {
    return line;
  }
}
