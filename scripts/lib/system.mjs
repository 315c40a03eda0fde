import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { launch, NODE_FLAGS, ROOT, run, stopProcess } from './run.mjs';
import { Trouble } from './say.mjs';

export const DEMO_PORTS = {
  web: 4600,
  engine: 4601,
  bench: 4602,
  postgres: 54600,
  relay: 20001,
  relay2: 20002,
  radio: 20003,
  logger: 20004,
  flow: 5021,
  monitor: 5023,
  meters: 5024,
  bay: 10201,
  park: 10202,
  model: 10102,
  northmark: 10301,
  caldmere: 10302,
  agreement: 10103,
  quillstone: 20100,
  ambry: 20101,
};

/** @typedef {{ web: number, engine: number, bench: number, postgres: number, relay: number, relay2: number, radio?: number, logger?: number, flow?: number, monitor?: number, meters?: number, bay?: number, park?: number, model?: number, northmark?: number, caldmere?: number, agreement?: number, quillstone: number, ambry: number }} Ports */

/**
 * The file with the key that secrets of the configuration are sealed with, beside a folder of logs.
 * @param {string} logs
 */
export function secretsKeyFile(logs) {
  const file = join(dirname(logs), 'secrets.key');
  if (!existsSync(file)) {
    mkdirSync(dirname(file), { recursive: true });
    writeFileSync(file, `${randomBytes(32).toString('base64')}\n`, { mode: 0o600 });
  }
  return file;
}

/** Engine, bench and web as processes of their own. */
export class System {
  /**
   * @param {{ databaseUrl: string, ports: Ports, logs: string, engineName?: string, moreRelays?: number[] }} options
   */
  constructor({ databaseUrl, ports, logs, engineName = 'engine-1', moreRelays = [] }) {
    this.ports = ports;
    this.logs = logs;
    this.env = {
      HALVIX_DATABASE_URL: databaseUrl,
      HALVIX_MIGRATIONS: join(ROOT, 'db/migrations'),
      HALVIX_ENGINE_NAME: engineName,
      HALVIX_ENGINE_PORT: String(ports.engine),
      HALVIX_STATE: join(ROOT, '.data/engine', String(ports.engine)),
      HALVIX_SECRETS_KEY_FILE: secretsKeyFile(logs),
      HALVIX_BENCH_PORT: String(ports.bench),
      HALVIX_BENCH_RELAY_PORT: String(ports.relay),
      HALVIX_BENCH_RELAY2_PORT: String(ports.relay2),
      // A system without a port for them does without the small stations.
      HALVIX_BENCH_STATIONS: ports.radio && ports.logger ? 'all' : 'relays',
      ...(ports.radio ? { HALVIX_BENCH_RADIO_PORT: String(ports.radio) } : {}),
      ...(ports.logger ? { HALVIX_BENCH_LOGGER_PORT: String(ports.logger) } : {}),
      ...(ports.flow ? { HALVIX_BENCH_FLOW_PORT: String(ports.flow) } : {}),
      ...(ports.monitor ? { HALVIX_BENCH_MONITOR_PORT: String(ports.monitor) } : {}),
      ...(ports.bay ? { HALVIX_BENCH_BAY_PORT: String(ports.bay) } : {}),
      ...(ports.park ? { HALVIX_BENCH_PARK_PORT: String(ports.park) } : {}),
      ...(ports.model ? { HALVIX_BENCH_MODEL_PORT: String(ports.model) } : {}),
      ...(ports.northmark ? { HALVIX_BENCH_NORTHMARK_PORT: String(ports.northmark) } : {}),
      ...(ports.caldmere ? { HALVIX_BENCH_CALDMERE_PORT: String(ports.caldmere) } : {}),
      ...(ports.agreement ? { HALVIX_BENCH_AGREEMENT_PORT: String(ports.agreement) } : {}),
      ...(ports.meters ? { HALVIX_BENCH_METERS_PORT: String(ports.meters) } : {}),
      // Away from the demo's ports, in tests, the logger has faster days.
      ...(ports.logger && ports.logger !== DEMO_PORTS.logger
        ? { HALVIX_BENCH_LOGGER_WAKES_MS: '4000', HALVIX_BENCH_LOGGER_SAMPLES_MS: '500' }
        : {}),
      HALVIX_BENCH_QUILLSTONE_PORT: String(ports.quillstone),
      HALVIX_BENCH_AMBRY_PORT: String(ports.ambry),
      HALVIX_BENCH_MORE_RELAYS: moreRelays.join(','),
      NODE_ENV: 'production',
    };
    /** @type {Map<string, ReturnType<typeof launch>>} */
    this.processes = new Map();
  }

  loadDemo() {
    return run(process.execPath, ['--enable-source-maps', join(ROOT, 'dist/load-demo.js')], { env: this.env });
  }

  /**
   * @param {'engine' | 'bench' | 'web'} name
   * @param {Record<string, string>} [more]  settings beside those of the system
   */
  start(name, more = {}) {
    const webEnv = {
      HALVIX_WEB_HOST: '127.0.0.1',
      HALVIX_WEB_PORT: String(this.ports.web),
      HALVIX_BENCH_URL: `http://127.0.0.1:${this.ports.bench}`,
      HALVIX_WEB_ORIGIN: `http://127.0.0.1:${this.ports.web}`,
      HALVIX_WEB_SHUTDOWN_TIMEOUT: '1',
      HALVIX_SETUP_SECRET: 'from the terminal',
      // Lists of 100 000 points go through as one request.
      HALVIX_WEB_BODY_SIZE_LIMIT: '100M',
    };
    const [file, env] = name === 'web' ? ['dist/web.js', { ...this.env, ...webEnv }] : [`dist/${name}.js`, this.env];
    const all = { ...env, ...more };
    const started = launch(name, [...NODE_FLAGS, join(ROOT, file)], all, join(this.logs, `${name}.log`));
    this.processes.set(name, started);
    return started;
  }

  /** @param {'engine' | 'bench' | 'web'} name */
  async waitFor(name, limitMs = 120_000) {
    const url = `http://127.0.0.1:${this.ports[name]}/healthz`;
    const deadline = Date.now() + limitMs;
    const { child, logFile } = /** @type {ReturnType<typeof launch>} */ (this.processes.get(name));
    for (;;) {
      if (child.exitCode !== null) throw new Trouble(`${name} ended at once with ${child.exitCode}; see ${logFile}`);
      const answer = await fetch(url).catch(() => null);
      if (answer?.ok) return;
      if (Date.now() > deadline) throw new Trouble(`${name} is not healthy after ${limitMs / 1000} s; see ${logFile}`);
      await new Promise((resolve) => setTimeout(resolve, 100));
    }
  }

  /** @param {'engine' | 'bench' | 'web'} name */
  async stop(name) {
    const running = this.processes.get(name);
    if (running) await stopProcess(running);
    this.processes.delete(name);
  }

  /** Ends a process without any chance to tidy up. */
  async kill(/** @type {'engine' | 'bench' | 'web'} */ name) {
    const running = this.processes.get(name);
    running?.child.kill('SIGKILL');
    await running?.ended;
    this.processes.delete(name);
  }

  async stopAll() {
    for (const name of /** @type {const} */ (['web', 'engine', 'bench'])) await this.stop(name);
  }
}
