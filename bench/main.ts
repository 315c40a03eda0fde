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

const relay = new SimulatedRelay({
  code: 'HLM-F1',
  name: 'F1 feeder relay',
  station: 'HLM',
  host,
  port: ports.HALVIX_BENCH_RELAY_PORT,
  address: 11,
  masterAddress: 1,
});
const centre = (code: string, name: string, port: number, ourAddress: number): SimulatedCentre =>
  new SimulatedCentre({ code, name, host, port, ourAddress, outstationAddress: 10 });
const quillstone = centre('QST', 'Quillstone', ports.HALVIX_BENCH_QUILLSTONE_PORT, 100);
const ambry = centre('AMB', 'Ambry', ports.HALVIX_BENCH_AMBRY_PORT, 101);

const server = serveControl(
  host,
  ports.HALVIX_BENCH_PORT,
  {
    devices: new Map([[relay.settings.code, relay]]),
    centres: new Map([quillstone, ambry].map((one) => [one.settings.code, one])),
  },
  (error) => {
    process.stderr.write(`the bench cannot listen on ${host}:${ports.HALVIX_BENCH_PORT}: ${error.message}\n`);
    process.exit(1);
  },
);
await relay.power(true);
quillstone.power(true);

for (const signal of ['SIGTERM', 'SIGINT'] as const)
  process.on(signal, () => {
    quillstone.power(false);
    ambry.power(false);
    server.close();
    void relay.power(false).then(() => process.exit(0));
    setTimeout(() => process.exit(0), 1000);
  });
