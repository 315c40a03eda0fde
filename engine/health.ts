import type { Database } from '@halvix/db';
import { createServer, type Server } from 'node:http';
import { collectDefaultMetrics, Gauge, Registry } from 'prom-client';
import { log } from './log.ts';
import type { Runtime } from './runtime.ts';

/** `GET /healthz` as JSON, `GET /metrics` in the Prometheus text format. */
export function serveHealth(host: string, port: number, database: Database, runtime: Runtime): Server {
  const registry = metricsOf(runtime);
  const server = createServer((request, response) => {
    const answer = (status: number, type: string, body: string): void => {
      response.writeHead(status, { 'content-type': type, 'cache-control': 'no-store' }).end(body);
    };
    const fail = (): void => answer(500, 'text/plain', 'failed\n');
    if (request.url === '/metrics') registry.metrics().then((text) => answer(200, registry.contentType, text), fail);
    else if (request.url === '/healthz')
      health(database, runtime).then(
        (state) => answer(state.ok ? 200 : 503, 'application/json', JSON.stringify(state)),
        fail,
      );
    else answer(404, 'text/plain', 'there are /healthz and /metrics\n');
  });
  server.on('error', (error) => {
    log('error', 'the health endpoint cannot listen', { host, port, reason: error.message });
    process.exit(1);
  });
  server.listen(port, host);
  return server;
}

async function health(database: Database, runtime: Runtime): Promise<{ ok: boolean } & Record<string, unknown>> {
  const reachable = await database.$client`select 1`.then(
    () => true,
    () => false,
  );
  const { historian, revision } = runtime;
  return {
    ok: reachable && historian.problem === null,
    database: reachable,
    revision,
    history: historian.problem ?? 'written',
    devices: runtime.devices.size,
    outbounds: runtime.outbounds.size,
  };
}

function metricsOf(runtime: Runtime): Registry {
  const registry = new Registry();
  collectDefaultMetrics({ register: registry });
  const gauge = (name: string, help: string, read: () => number): void => {
    new Gauge({
      name,
      help,
      registers: [registry],
      collect() {
        this.set(read());
      },
    });
  };
  const { historian, devices, outbounds } = runtime;
  gauge('halvix_readings_stored', 'Readings stored since start', () => historian.numbers.stored);
  gauge('halvix_readings_dropped', 'Readings dropped since start', () => historian.numbers.dropped);
  gauge('halvix_readings_queued', 'Readings waiting to be stored', () => historian.queued);
  gauge('halvix_last_commit_ms', 'Duration of the last commit', () => Math.round(historian.numbers.commitMs));
  gauge('halvix_devices', 'Devices configured', () => devices.size);
  gauge(
    'halvix_devices_answering',
    'Devices that answer',
    () => [...devices.values()].filter((device) => device.deviceState().state === 'answering').length,
  );
  new Gauge({
    name: 'halvix_device_count',
    help: 'Session counters of each device since their last reset',
    labelNames: ['device', 'counter'],
    registers: [registry],
    collect() {
      for (const [code, device] of devices)
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
      for (const [code, outbound] of outbounds) this.set({ outbound: code }, outbound.state().eventsWaiting);
    },
  });
  return registry;
}
