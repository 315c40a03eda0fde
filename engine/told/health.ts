import { createServer, type Server } from 'node:http';
import { collectDefaultMetrics, Gauge, Registry } from 'prom-client';
import type { Authority } from '../store/authority.ts';
import { log } from '../log.ts';
import type { Runtime } from '../runtime.ts';

/** What answers `/healthz`: from memory, at once, whatever the database does. */
export interface Health {
  /** standby: another engine runs what is configured. starting: the database is not ready. */
  state: 'starting' | 'standby' | 'running' | 'degraded';
  ok: boolean;
  problem: string | null;
  /** Name of the engine that runs. */
  holder: string | null;
  database: boolean;
  revision: number | null;
  history: string;
  devices: number;
  outbounds: number;
}

export interface Watched {
  authority: Authority;
  /** Once this engine runs. */
  runtime: Runtime | null;
}

/** `GET /healthz` as JSON, `GET /metrics` in the Prometheus text format. */
export function serveHealth(host: string, port: number, watched: Watched): Server {
  const registry = metricsOf(watched);
  const server = createServer((request, response) => {
    const answer = (status: number, type: string, body: string): void => {
      response.writeHead(status, { 'content-type': type, 'cache-control': 'no-store' }).end(body);
    };
    const fail = (): void => answer(500, 'text/plain', 'failed\n');
    if (request.url === '/metrics') registry.metrics().then((text) => answer(200, registry.contentType, text), fail);
    else if (request.url === '/healthz') {
      const health = healthOf(watched);
      answer(health.ok ? 200 : 503, 'application/json', JSON.stringify(health));
    } else answer(404, 'text/plain', 'there are /healthz and /metrics\n');
  });
  server.on('error', (error) => {
    log('error', 'the health endpoint cannot listen', { host, port, reason: error.message });
    process.exit(1);
  });
  server.listen(port, host);
  return server;
}

export function healthOf({ authority, runtime }: Watched): Health {
  const database = authority.problem === null && authority.answered !== null;
  const history = runtime?.historian.problem ?? null;
  const standsBy = !authority.isHolder && authority.holder !== null && authority.holder.run !== authority.engine.run;
  const problem = authority.problem ?? history;
  const works = problem === null && runtime !== null;
  return {
    state: works ? 'running' : runtime !== null ? 'degraded' : standsBy && database ? 'standby' : 'starting',
    // Standing by is what it is there for.
    ok: works || (standsBy && database),
    problem,
    holder: authority.holder?.name ?? null,
    database,
    revision: runtime?.revision ?? null,
    history: history ?? 'written',
    devices: runtime?.devices.size ?? 0,
    outbounds: runtime?.outbounds.size ?? 0,
  };
}

function metricsOf(watched: Watched): Registry {
  const registry = new Registry();
  collectDefaultMetrics({ register: registry });
  const gauge = (name: string, help: string, read: (runtime: Runtime) => number): void => {
    new Gauge({
      name,
      help,
      registers: [registry],
      collect() {
        this.set(watched.runtime === null ? 0 : read(watched.runtime));
      },
    });
  };
  gauge('halvix_running', 'Whether this engine runs what is configured, or stands by', () => 1);
  gauge('halvix_readings_stored', 'Readings stored since start', ({ historian }) => historian.numbers.stored);
  gauge('halvix_readings_dropped', 'Readings dropped since start', ({ historian }) => historian.numbers.dropped);
  gauge('halvix_readings_refused', 'Readings put aside since start', ({ historian }) => historian.numbers.refused);
  gauge('halvix_readings_queued', 'Readings waiting to be stored', ({ historian }) => historian.queued);
  gauge('halvix_last_commit_ms', 'Duration of the last commit', ({ historian }) =>
    Math.round(historian.numbers.commitMs),
  );
  gauge('halvix_devices', 'Devices configured', ({ devices }) => devices.size);
  gauge(
    'halvix_devices_answering',
    'Devices that answer',
    ({ devices }) => [...devices.values()].filter((device) => device.deviceState().state === 'answering').length,
  );
  new Gauge({
    name: 'halvix_device_count',
    help: 'Session counters of each device since their last reset',
    labelNames: ['device', 'counter'],
    registers: [registry],
    collect() {
      for (const [code, device] of watched.runtime?.devices ?? [])
        for (const [counter, value] of Object.entries(device.deviceState().counters))
          this.set({ device: code, counter }, value);
    },
  });
  new Gauge({
    name: 'halvix_outbound_events_waiting',
    help: 'Events that a centre has not confirmed yet',
    labelNames: ['outbound'],
    registers: [registry],
    collect() {
      for (const [code, outbound] of watched.runtime?.outbounds ?? [])
        this.set({ outbound: code }, outbound.state().eventsWaiting);
    },
  });
  return registry;
}
