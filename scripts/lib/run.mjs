import { spawn } from 'node:child_process';
import { closeSync, mkdirSync, openSync } from 'node:fs';
import { availableParallelism } from 'node:os';
import { dirname } from 'node:path';
import { fileURLToPath } from 'node:url';
import { Trouble } from './say.mjs';

/**
 * How engine, bench and web are started. What waits for a commit lives a little longer than most objects: in a larger
 * young space it is not moved about (MiB), which does not shrink while little happens: what comes all at once after that
 * would be made old before it had grown again. And the collector's helpers are no more than the cores beside the one that
 * works: with more of them than cores they took its place while they marked, for half a second at 100 000 points.
 * And nothing is made old from the start: at the start, when all points come, the objects of many places last; later the
 * same places make what lasts for a moment, and what is old and dead keeps alive what it points to.
 */
export const NODE_FLAGS = [
  '--enable-source-maps',
  '--max-semi-space-size=128',
  '--min-semi-space-size=64',
  '--no-allocation-site-pretenuring',
  `--v8-pool-size=${Math.max(1, Math.min(4, availableParallelism() - 1))}`,
];

export const ROOT = fileURLToPath(new URL('../..', import.meta.url)).replace(/\/$/, '');
export const isRoot = process.getuid?.() === 0;

/**
 * Runs a command to its end; its output is shown only when it fails, unless `show` is set.
 * @param {string} command
 * @param {string[]} args
 * @param {{ env?: Record<string, string | undefined>, show?: boolean, allowFailure?: boolean, cwd?: string }} options
 * @returns {Promise<{ code: number, output: string }>}
 */
export function run(command, args, { env, show = false, allowFailure = false, cwd = ROOT } = {}) {
  return new Promise((resolve, reject) => {
    const child = spawn(command, args, {
      cwd,
      env: { ...process.env, ...env },
      stdio: show ? ['ignore', 'inherit', 'inherit'] : ['ignore', 'pipe', 'pipe'],
    });
    let output = '';
    child.stdout?.on('data', (text) => (output += text));
    child.stderr?.on('data', (text) => (output += text));
    child.on('error', reject);
    child.on('close', (code) => {
      if (code === 0 || allowFailure) resolve({ code: code ?? 1, output });
      else reject(new Trouble(`${command} ${args.slice(0, 3).join(' ')} ended with ${code}\n${output.slice(-4000)}`));
    });
  });
}

/**
 * Starts a long-running process with its output in a file.
 * @param {string} name
 * @param {string[]} args  of this very Node
 * @param {Record<string, string>} env
 * @param {string} logFile
 */
export function launch(name, args, env, logFile) {
  mkdirSync(dirname(logFile), { recursive: true });
  const log = openSync(logFile, 'a');
  const child = spawn(process.execPath, args, {
    cwd: ROOT,
    env: { ...process.env, ...env },
    stdio: ['ignore', log, log],
    // Ctrl-C reaches the whole foreground group: the parent alone decides the order of stopping.
    detached: true,
  });
  closeSync(log);
  const ended = new Promise((resolve) => child.on('exit', (code) => resolve(code ?? 1)));
  return { name, child, ended, logFile };
}

/** @param {ReturnType<typeof launch>} process_ */
export async function stopProcess({ child, ended }) {
  if (child.exitCode !== null || child.signalCode !== null) return;
  child.kill('SIGTERM');
  const late = setTimeout(() => child.kill('SIGKILL'), 6000);
  await ended;
  clearTimeout(late);
}

/** @param {number} pid */
export function isAlive(pid) {
  try {
    process.kill(pid, 0);
    return true;
  } catch (error) {
    return /** @type {{ code?: string }} */ (error).code === 'EPERM';
  }
}
