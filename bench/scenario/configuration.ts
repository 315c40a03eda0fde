import { configurationSchema, type Configuration } from '@halvix/core/config';
import { DEFAULT_VARIATIONS } from '@halvix/core/dnp3';
import { USUAL_CLASS } from '@halvix/core/mapping';
import { FEEDER_RELAY, type RelayPoint } from './feederrelay.ts';

export interface DemoPorts {
  relay: number;
  relay2: number;
  quillstone: number;
  ambry: number;
}

export const DEMO_PORTS: DemoPorts = { relay: 20001, relay2: 20002, quillstone: 20100, ambry: 20101 };

/** What each operation of an output leads to, where a binary input shows it. */
const FEEDBACK: Partial<Record<number, { index: number; expect: Record<string, number> }>> = {
  0: { index: 0, expect: { trip: 0, close: 1, latchOn: 1, latchOff: 0 } },
  1: { index: 2, expect: { pulseOn: 0 } },
  2: { index: 11, expect: { latchOn: 1, latchOff: 0 } },
  3: { index: 18, expect: { latchOn: 1, latchOff: 0 } },
  6: { index: 10, expect: { latchOn: 1, latchOff: 0 } },
  7: { index: 25, expect: { latchOn: 1, latchOff: 0 } },
};

function pointOf({ kind, index, name, unit, gain, states, operations }: RelayPoint): unknown {
  const feedback = kind === 'output' ? FEEDBACK[index] : undefined;
  const control = {
    operations,
    onMs: 500,
    offMs: 250,
    feedback: feedback ? { kind: 'binary', ...feedback } : null,
    feedbackWithinMs: 10_000,
  };
  return { kind, index, name, unit, gain, offset: 0, states, control: kind === 'output' ? control : null };
}

/** The demo's configuration: relay HLM-F1, mapped whole and unchanged to Quillstone and to Ambry. */
export function demoConfiguration(ports: DemoPorts = DEMO_PORTS): Configuration {
  const mappings = FEEDER_RELAY.map(({ kind, index }) => ({
    device: 'HLM-F1',
    kind,
    index,
    target: {
      kind,
      index,
      eventClass: USUAL_CLASS[kind],
      staticVariation: DEFAULT_VARIATIONS[kind].static,
      eventVariation: DEFAULT_VARIATIONS[kind].event,
    },
  }));
  const outbound = (code: string, name: string, centre: string, port: number, theirAddress: number): unknown => ({
    code,
    name,
    centre,
    protocol: 'dnp3',
    host: '127.0.0.1',
    port,
    settings: { ourAddress: 10, theirAddress },
    mappings,
  });
  return configurationSchema.parse({
    schema: 'halvix.configuration',
    version: 1,
    network: 'Varrow Basin Utilities',
    stations: [{ code: 'HLM', name: 'Hollowmere', description: '33/11 kV substation' }],
    links: [{ code: 'HLM-LAN-F1', name: 'Station LAN', type: 'tcpClient', host: '127.0.0.1', port: ports.relay }],
    devices: [
      {
        code: 'HLM-F1',
        name: 'F1 feeder relay',
        description: 'feeder relay',
        station: 'HLM',
        link: 'HLM-LAN-F1',
        protocol: 'dnp3',
        settings: { ourAddress: 1, theirAddress: 11 },
        points: FEEDER_RELAY.map(pointOf),
      },
    ],
    outbounds: [
      outbound('QST', 'centre', 'Quillstone', ports.quillstone, 100),
      outbound('AMB', 'standby', 'Ambry', ports.ambry, 101),
    ],
  });
}
