import { hostSetting, portSetting, readSettings } from '@halvix/core/settings';
import { z } from 'zod';
import { SimulatedCentre } from './centre.ts';
import { SimulatedRelay } from './device.ts';
import { serveControl } from './http.ts';
import { DEMO_PORTS } from './scenario/configuration.ts';

const settings = readSettings(
  z.object({
    HALVIX_BENCH_HOST: hostSetting,
    HALVIX_BENCH_PORT: portSetting(4602),
    HALVIX_BENCH_RELAY_PORT: portSetting(DEMO_PORTS.relay),
    HALVIX_BENCH_RELAY2_PORT: portSetting(DEMO_PORTS.relay2),
    /** Ports of further relays, for tests of many: B01 at address 201 and so on. */
    HALVIX_BENCH_MORE_RELAYS: z
      .string()
      .regex(/^(\d{1,5}(,\d{1,5})*)?$/, 'must be ports with commas between')
      .default(''),
    HALVIX_BENCH_QUILLSTONE_PORT: portSetting(DEMO_PORTS.quillstone),
    HALVIX_BENCH_AMBRY_PORT: portSetting(DEMO_PORTS.ambry),
  }),
  process.env,
);
if (!settings.ok) {
  for (const problem of settings.problem) process.stderr.write(`setting ${problem}\n`);
  process.exit(2);
}
const { HALVIX_BENCH_HOST: host, ...ports } = settings.value;

const relay = (code: string, name: string, port: number, address: number): SimulatedRelay =>
  new SimulatedRelay({ code, name, station: code.split('-')[0], host, port, address, masterAddress: 1 });
const f1 = relay('HLM-F1', 'F1 feeder relay', ports.HALVIX_BENCH_RELAY_PORT, 11);
/** Off until somebody brings it on line. */
const f2 = relay('HLM-F2', 'F2 feeder relay', ports.HALVIX_BENCH_RELAY2_PORT, 12);
const more = ports.HALVIX_BENCH_MORE_RELAYS.split(',')
  .filter(Boolean)
  .map((port, i) => relay(`B${String(i + 1).padStart(2, '0')}`, `Relay ${i + 1}`, Number(port), 201 + i));
const relays = [f1, f2, ...more];
const centre = (code: string, name: string, port: number, ourAddress: number): SimulatedCentre =>
  new SimulatedCentre({ code, name, host, port, ourAddress, outstationAddress: 10 });
const quillstone = centre('QST', 'Quillstone', ports.HALVIX_BENCH_QUILLSTONE_PORT, 100);
const ambry = centre('AMB', 'Ambry', ports.HALVIX_BENCH_AMBRY_PORT, 101);

const server = serveControl(
  host,
  ports.HALVIX_BENCH_PORT,
  {
    devices: new Map(relays.map((one) => [one.settings.code, one])),
    centres: new Map([quillstone, ambry].map((one) => [one.settings.code, one])),
  },
  (error) => {
    process.stderr.write(`the bench cannot listen on ${host}:${ports.HALVIX_BENCH_PORT}: ${error.message}\n`);
    process.exit(1);
  },
);
for (const one of [f1, ...more]) await one.power(true);
quillstone.power(true);

for (const signal of ['SIGTERM', 'SIGINT'] as const)
  process.on(signal, () => {
    quillstone.power(false);
    ambry.power(false);
    server.close();
    void Promise.all(relays.map((one) => one.power(false))).then(() => process.exit(0));
    setTimeout(() => process.exit(0), 1000);
  });
