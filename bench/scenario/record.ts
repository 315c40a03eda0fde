import type { PlantFile } from '../plant.ts';

/** What a relay recorded around a trip: amperes and kilovolts. */
export interface Disturbance {
  /** When the breaker opened, ms. */
  time: number;
  amperes: number;
  kilovolts: number;
}

const CHANNELS = ['IL1', 'IL2', 'IL3', 'UL1', 'UL2', 'UL3'];
const SAMPLES_A_CYCLE = 20;
const CYCLES = 12;
const HERTZ = 50;
const RATE = SAMPLES_A_CYCLE * HERTZ;
/** Counts of an ampere and of a kilovolt. */
const SCALE = [10, 100];
/** The fault begins in the fourth cycle, and the breaker opens in the ninth. */
const FAULT_FROM = 3 * SAMPLES_A_CYCLE;
const OPEN_FROM = 8 * SAMPLES_A_CYCLE;
const FAULT_FACTOR = 6;

/** The record of a trip as configuration and ASCII data (COMTRADE, IEEE C37.111-1999). */
export function recordFiles(number: number, { time, amperes, kilovolts }: Disturbance): PlantFile[] {
  const name = `REC${String(number).padStart(5, '0')}`;
  const samples = CYCLES * SAMPLES_A_CYCLE;
  const begins = time - (OPEN_FROM / RATE) * 1000;
  const analog = CHANNELS.map((channel, i) => {
    const [unit, scale] = i < 3 ? ['A', SCALE[0]] : ['kV', SCALE[1]];
    return `${i + 1},${channel},L${(i % 3) + 1},,${unit},${1 / scale},0,0,-99999,99999,1,1,P`;
  });
  const configuration = [
    'Hollowmere,feeder relay,1999',
    `${CHANNELS.length + 1},${CHANNELS.length}A,1D`,
    ...analog,
    '1,Breaker 52A,,,1',
    String(HERTZ),
    '1',
    `${RATE},${samples}`,
    stamp(begins),
    stamp(time),
    'ASCII',
    '1',
  ];
  const data = Array.from({ length: samples }, (_, n) => {
    const isOpen = n >= OPEN_FROM;
    const current = isOpen ? 0 : amperes * Math.SQRT2 * (n >= FAULT_FROM ? FAULT_FACTOR : 1);
    const voltage = ((kilovolts * Math.SQRT2) / Math.sqrt(3)) * (n >= FAULT_FROM && !isOpen ? 0.7 : 1);
    const wave = (i: number): number => Math.sin((2 * Math.PI * n) / SAMPLES_A_CYCLE - ((i % 3) * 2 * Math.PI) / 3);
    const values = CHANNELS.map((_channel, i) =>
      Math.round(wave(i) * (i < 3 ? current * SCALE[0] : voltage * SCALE[1])),
    );
    return [n + 1, Math.round((n * 1e6) / RATE), ...values, isOpen ? 0 : 1].join(',');
  });
  const file = (ending: string, lines: string[]): PlantFile => ({
    name: `${name}.${ending}`,
    content: Uint8Array.from(`${lines.join('\r\n')}\r\n`, (character) => character.charCodeAt(0)),
    time,
  });
  return [file('CFG', configuration), file('DAT', data)];
}

/** dd/mm/yyyy,hh:mm:ss.ssssss */
function stamp(ms: number): string {
  const [year, month, day, time] = new Date(ms).toISOString().split(/[-TZ]/);
  return `${day}/${month}/${year},${time}000`;
}
