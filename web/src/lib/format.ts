import {
  decimals,
  isForced,
  LEVEL_WORDS,
  numberOnWire,
  qualityWords,
  validity,
  type Reading,
  type Scaling,
} from '@halvix/core/point';

const THIN_SPACE = '\u202f';

/** Groups of three digits, apart: 8 140.2 */
export function grouped(value: number, places: number): string {
  if (!Number.isFinite(value)) return '–';
  if (Math.abs(value) >= 1e15) return value.toExponential(6);
  const [whole, fraction] = Math.abs(value).toFixed(places).split('.');
  const digits = whole.replace(/\B(?=(\d{3})+$)/g, THIN_SPACE);
  const negative = value < 0 && Number(Math.abs(value).toFixed(places)) !== 0;
  return `${negative ? '−' : ''}${digits}${fraction ? `.${fraction}` : ''}`;
}

export interface ShownPoint extends Scaling {
  states: readonly string[] | null;
}

/** A value as people read it: in its unit, as the word for its state, or as what a text says. */
export function valueWords(point: ShownPoint, raw: number, value: number, text?: string): string {
  if (text !== undefined && (!isDigits(text) || isUnscaled(point))) return shownText(text);
  const word = point.states?.[raw];
  if (word !== undefined) return word;
  return grouped(value, Number.isInteger(raw) ? decimals(point) : Math.max(decimals(point), placesOf(value)));
}

/** The value of a reading as people read it; what is no number has none. */
export function readingWords(point: ShownPoint, reading: Pick<Reading, 'raw' | 'value' | 'text' | 'quality'>): string {
  const { raw, value, text, quality } = reading;
  const came = numberOnWire(raw, quality);
  if (Number.isNaN(came)) return '–';
  return Number.isFinite(came) ? valueWords(point, raw, value, text) : came > 0 ? '∞' : '−∞';
}

/** Digits of a whole number that has more of them than a floating-point number keeps. */
const isDigits = (text: string): boolean => /^-?\d{16,20}$/.test(text);
const isUnscaled = ({ gain, offset }: ShownPoint): boolean => gain === 1 && offset === 0;
/** Of a number that comes with a fraction: so many places that about five digits are seen. */
const placesOf = (value: number): number =>
  value === 0 ? 0 : Math.min(6, Math.max(0, 4 - Math.floor(Math.log10(Math.abs(value)))));

// eslint-disable-next-line no-control-regex
const CONTROLS = /[\u0000-\u001f\u007f-\u009f]/g;
/** Octets, a character each, as what they most likely say: UTF-8 where they are that, else as they are. */
function shownText(octets: string): string {
  const bytes = Uint8Array.from(octets, (character) => character.charCodeAt(0));
  const decoded = new TextDecoder().decode(bytes);
  return (decoded.includes('\ufffd') ? octets : decoded).replace(CONTROLS, '·');
}

/** Whole wire numbers as they are; others with what they carry. */
export function rawWords(raw: number, text?: string): string {
  if (text !== undefined) return isDigits(text) ? text : `${text.length} octets`;
  // A float of 32 bits has about seven digits.
  return Number.isInteger(raw) ? grouped(raw, 0) : String(Number(raw.toPrecision(7)));
}

/** The mark that goes with a quality; none when good. */
export function qualityMark(quality: number): '' | 'lost' | 'questionable' | 'boxed' {
  if (validity(quality) === 'invalid') return 'lost';
  if (isForced(quality)) return 'boxed';
  return validity(quality) === 'questionable' ? 'questionable' : '';
}

export const qualityColour = (quality: number): string =>
  ({ lost: 'text-lost', boxed: 'text-forced', questionable: 'text-questionable', '': '' })[qualityMark(quality)];

/** Which limit the value is beyond, in words; empty when within them. */
export const limitPhrase = (reading: Reading | undefined): string =>
  reading?.limit ? `⚑ beyond ${LEVEL_WORDS[reading.limit]}` : '';

/** Quality in words; empty when good. Without communication the age of the value is the thing to know. */
export function qualityPhrase(reading: Reading | undefined, now: number): string {
  if (reading === undefined) return 'never answered';
  const words = qualityWords(reading.quality);
  return validity(reading.quality) === 'invalid' ? `${words}, ${age(now - reading.time)} old` : words;
}

/** An age in the unit that fits: 0.4 s, 12 s, 5 min, 3 h, 2 d. */
export function age(ms: number): string {
  const seconds = Math.max(0, ms) / 1000;
  if (seconds < 10) return `${seconds.toFixed(1)} s`;
  if (seconds < 120) return `${Math.floor(seconds)} s`;
  if (seconds < 7200) return `${Math.floor(seconds / 60)} min`;
  if (seconds < 172_800) return `${Math.floor(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86_400)} d`;
}

const two = (n: number, width = 2): string => String(n).padStart(width, '0');

/** Time of day in UTC with tenths or thousandths; with the date when it is another day than `now`. */
export function clockTime(ms: number, now: number, digits: 0 | 1 | 3 = 3): string {
  const date = new Date(ms);
  const fraction = digits === 0 ? '' : `.${two(date.getUTCMilliseconds(), 3).slice(0, digits)}`;
  const time = `${two(date.getUTCHours())}:${two(date.getUTCMinutes())}:${two(date.getUTCSeconds())}${fraction}`;
  const day = date.toISOString().slice(0, 10);
  return day === new Date(now).toISOString().slice(0, 10) ? time : `${day} ${time}`;
}

/** To the millisecond, with date and zone: for tooltips. */
export const fullTime = (ms: number): string => `${new Date(ms).toISOString().replace('T', ' ').replace('Z', '')} UTC`;

const SMALL_NUMBERS = [
  'no',
  'one',
  'two',
  'three',
  'four',
  'five',
  'six',
  'seven',
  'eight',
  'nine',
  'ten',
  'eleven',
  'twelve',
];
export const numberWord = (n: number): string => SMALL_NUMBERS[n] ?? String(n);
export const capital = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);

/** An event that came so long after its time was kept by the device in between. */
const LATE_MS = 30_000;
export const isLate = ({ cause, time, received }: Pick<Reading, 'cause' | 'time' | 'received'>): boolean =>
  cause === 'event' && received - time > LATE_MS;
