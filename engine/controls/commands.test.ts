import { configurationSchema, type DeviceConfig } from '@halvix/core/config';
import { Quality, type Reading } from '@halvix/core/point';
import { outcome, type CentreOrder, type ClientNews, type ControlOrder } from '@halvix/core/protocols';
import type { Command, CommandProgress, NewCommand } from '@halvix/db';
import { afterEach, beforeEach, describe, expect, test, vi } from 'vitest';
import { Exchange } from '../board/exchange.ts';
import { Journal } from '../journal.ts';
import type { CentreControl, GivenCommand } from './controls.ts';

/* Commands with a table in memory in place of the database, a real exchange, and a device that takes down what it is given. */

const table = vi.hoisted(() => ({
  rows: new Map<string, Command>(),
  fails: '',
  claims: [] as { engine: string; devices: string[]; run: string }[],
  expired: 0,
  whileClaiming: null as (() => Promise<void>) | null,
}));
vi.mock('@halvix/db', () => ({
  claimCommands: async (_database: unknown, engine: string, devices: string[], now: number, run: string) => {
    if (table.fails === 'claim') throw new Error('away');
    table.claims.push({ engine, devices, run });
    await table.whileClaiming?.();
    const open = [...table.rows.values()].filter((row) => row.state === 'requested' && devices.includes(row.device));
    for (const row of open) row.state = row.expires <= now ? 'expired' : 'claimed';
    return open.map((row) => ({ ...row }));
  },
  expireCommands: async () => {
    if (table.fails === 'expire') throw new Error('away');
    return table.expired;
  },
  noteCommand: async (_database: unknown, id: string, progress: CommandProgress) => {
    if (table.fails === 'note') throw new Error('away');
    Object.assign(table.rows.get(id)!, progress);
  },
  orderCommand: async (_database: unknown, order: NewCommand) => {
    if (table.fails === 'order') throw new Error('away');
    // The first of two takes longer.
    if (order.counts === 11) await new Promise((resolve) => setTimeout(resolve, 50));
    table.rows.set(order.id, { ...blank, ...order, state: 'requested' });
  },
}));
const { Commands } = await import('./commands.ts');

const NOW = Date.UTC(2096, 0, 1);
const blank = {
  ...{ status: null, words: null, claimed: null, sent: null, selected: null, operated: null, confirmed: null },
  ...{ ended: null, engine: null, outbound: null, counts: null, text: null },
} as unknown as Command;
const at = (index: number): object => ({ protocol: 'dnp3', index });
const device = configurationSchema.parse({
  ...{ schema: 'halvix.configuration', version: 3, network: 'test', stations: [], links: [], outbounds: [] },
  devices: [
    {
      ...{ code: 'D', name: 'relay', station: 'S', link: 'F', protocol: 'dnp3' },
      settings: { ourAddress: 1, theirAddress: 2 },
      points: [
        { kind: 'binary', at: at(0), name: 'breaker', states: ['open', 'closed'] },
        {
          ...{ kind: 'output', at: at(0), name: 'breaker control' },
          control: {
            operations: ['trip', 'close'],
            onMs: 120,
            offMs: 30,
            feedback: { point: 'BI 0', expect: { trip: 0, close: 1 } },
            feedbackWithinMs: 4000,
          },
        },
        { kind: 'output', at: at(1), name: 'reset', control: { operations: ['pulseOn'], onMs: 500, offMs: 0 } },
        { kind: 'analog', at: at(0), name: 'power', unit: 'kW', gain: 0.5 },
        {
          ...{ kind: 'setpoint', at: at(0), name: 'limit', unit: 'kW', gain: 0.5 },
          setting: { low: 0, high: 100, feedback: 'AI 0', feedbackWithinMs: 3000, tolerance: 1 },
        },
        { kind: 'setpoint', at: at(1), name: 'level', setting: null },
        { kind: 'text', at: at(0), name: 'label', setting: { feedbackWithinMs: 2000 } },
      ],
    },
  ],
}).devices[0];

const ADDRESSES = ['BI 0', 'BO 0', 'BO 1', 'AI 0', 'AO 0', 'AO 1', 'OS 0'];
let exchange: Exchange;
let journal: Journal;
let orders: ControlOrder<unknown>[];
let given: GivenCommand[];
let polls: number;
let changes: number;
let present: boolean;
let commands: InstanceType<typeof Commands>;

beforeEach(() => {
  vi.useFakeTimers({ now: NOW });
  vi.spyOn(process.stdout, 'write').mockReturnValue(true);
  Object.assign(table, { fails: '', claims: [], expired: 0, whileClaiming: null });
  table.rows.clear();
  exchange = new Exchange();
  journal = new Journal();
  list(device);
  [orders, given, polls, changes, present] = [[], [], 0, 0, true];
  const runner = { control: (order: ControlOrder<unknown>) => orders.push(order), pollNow: () => polls++ };
  commands = new Commands({
    ...{ database: {} as never, engine: 'engine-1', run: 'run 7', exchange, journal },
    devices: () => new Map(present ? [['D', runner as never]] : []),
    given: (one) => given.push(one),
    changed: () => changes++,
  });
});
afterEach(() => {
  vi.useRealTimers();
  vi.restoreAllMocks();
});

function list(config: DeviceConfig): void {
  exchange.setDevice(config, (address) => ADDRESSES.indexOf(address) + 1);
}
const idOf = (address: string): number => ADDRESSES.indexOf(address) + 1;
function ordered(more: Partial<Command>): Command {
  const row: Command = {
    ...blank,
    ...{ id: `c${table.rows.size + 1}`, pointId: idOf(more.address ?? 'BO 0'), device: 'D', address: 'BO 0' },
    ...{ operation: 'close', mode: 'selectOperate', onMs: 120, offMs: 30, count: 1, requestedBy: 'ada' },
    ...{ requested: Date.now(), expires: Date.now() + 5000, state: 'requested' },
    ...more,
  };
  table.rows.set(row.id, row);
  return row;
}
const step = async (id: string, name: string, more: object = {}): Promise<void> => {
  commands.onProgress({ type: 'control', id, step: name, words: '', status: null, ...more } as ClientNews & {
    type: 'control';
  });
  await vi.advanceTimersByTimeAsync(0);
};
/** What the device shows of a point. */
async function show(address: string, raw: number, more: Partial<Reading> = {}): Promise<void> {
  const point = exchange.at('D', address)!;
  exchange.together(() =>
    exchange.put(
      point,
      {
        ...{ raw, value: raw * point.config.gain, quality: 0, time: Date.now(), timeSource: 'receipt' },
        ...{ received: Date.now(), cause: 'event' },
        ...more,
      } as Reading,
      null,
    ),
  );
  await vi.advanceTimersByTimeAsync(0);
}
const noted = (): string[] => journal.take().map(({ words }) => words);

describe('a command that people order', () => {
  test('is claimed for our devices under our lease, and given to its device once, as it was ordered', async () => {
    ordered({ onMs: 200, offMs: 40, count: 2, mode: 'direct' });
    ordered({ device: 'ELSEWHERE' });
    await commands.work();
    await commands.work();
    expect(table.claims[0]).toEqual({ engine: 'engine-1', devices: ['D'], run: 'run 7' });
    expect(orders).toEqual([
      {
        ...{ type: 'control', id: 'c1', kind: 'output', operation: 'close' },
        at: exchange.at('D', 'BO 0')!.config.at,
        ...{ counts: null, onMs: 200, offMs: 40, count: 2, mode: 'direct', expiresAt: NOW + 5000 },
      },
    ]);
  });

  test('each way of operating is passed on; one that nobody knows goes by select and operate', async () => {
    for (const mode of ['selectOperate', 'direct', 'directNoAnswer', 'selectOnly', 'by hand'])
      ordered({ mode } as Partial<Command>);
    await commands.work();
    expect(orders.map(({ mode }) => mode)).toEqual([
      ...['selectOperate', 'direct', 'directNoAnswer', 'selectOnly', 'selectOperate'],
    ]);
  });

  test('one that comes while others are being claimed is claimed with the next look', async () => {
    table.whileClaiming = async () => {
      table.whileClaiming = null;
      await commands.work();
    };
    await commands.work();
    expect(table.claims).toHaveLength(2);
  });

  test('a database that is away loses nothing: it is asked again', async () => {
    table.fails = 'claim';
    ordered({});
    await commands.work();
    expect(orders).toEqual([]);
    table.fails = '';
    await commands.work();
    expect(orders).toHaveLength(1);
  });

  test('whose time was over is not sent, and the journal says so', async () => {
    ordered({ expires: NOW });
    await commands.work();
    expect(orders).toEqual([]);
    expect(noted()).toEqual(['close by ada: expired, not sent']);
    expect(changes).toBe(1);
  });

  test('for a point that is not in the list any more, or a device that left meanwhile, nothing is sent', async () => {
    ordered({ address: 'BO 9' });
    await commands.work();
    await vi.advanceTimersByTimeAsync(0);
    expect(table.rows.get('c1')).toMatchObject({
      state: 'failed',
      words: "the device's list has no BO 9 any more; nothing was sent",
      ended: NOW,
    });
    table.whileClaiming = async () => void (present = false);
    ordered({});
    await commands.work();
    await vi.advanceTimersByTimeAsync(0);
    expect(table.rows.get('c2')!.words).toBe('this engine does not have the device any more; nothing was sent');
    expect(orders).toEqual([]);
  });

  test('goes on to confirmed when its feedback shows it, and each step is written', async () => {
    ordered({});
    await commands.work();
    await show('BI 0', 0);
    await vi.advanceTimersByTimeAsync(100);
    await step('c1', 'selectSent');
    await vi.advanceTimersByTimeAsync(50);
    await step('c1', 'selected');
    await step('c1', 'operateSent');
    expect(table.rows.get('c1')).toMatchObject({ sent: NOW + 100, selected: NOW + 150, state: 'claimed' });
    await vi.advanceTimersByTimeAsync(50);
    await step('c1', 'operated');
    expect(table.rows.get('c1')).toMatchObject({ operated: NOW + 200, state: 'operated', status: 0, ended: null });
    expect(given).toEqual([{ device: 'D', address: 'BO 0', kind: 'output', value: 1, outcome: outcome('done') }]);
    await vi.advanceTimersByTimeAsync(300);
    await show('BI 0', 1, { timeSource: 'device', time: NOW + 450 });
    expect(table.rows.get('c1')).toMatchObject({
      state: 'confirmed',
      confirmed: NOW + 500,
      ended: NOW + 500,
      words: "breaker: closed, 00:00:00.450 UTC by the device's clock",
    });
    expect(noted()).toEqual([
      "breaker control: close by ada, confirmed: breaker: closed, 00:00:00.450 UTC by the device's clock",
    ]);
  });

  test('a value of before it was sent, a lost one, or the other one confirms nothing; the device is asked to look', async () => {
    ordered({});
    await show('BI 0', 1);
    await commands.work();
    await vi.advanceTimersByTimeAsync(100);
    await step('c1', 'operateSent');
    await step('c1', 'operated');
    await show('BI 0', 1, { quality: Quality.commLost });
    await show('BI 0', 0);
    expect(polls).toBe(0);
    await vi.advanceTimersByTimeAsync(1500);
    expect(polls).toBe(1);
    await vi.advanceTimersByTimeAsync(2500);
    await commands.tick();
    expect(table.rows.get('c1')!.state).toBe('operated');
    await vi.advanceTimersByTimeAsync(1);
    await commands.tick();
    await vi.advanceTimersByTimeAsync(0);
    expect(table.rows.get('c1')).toMatchObject({
      state: 'unconfirmed',
      words: 'accepted, but breaker did not become closed in time',
      confirmed: null,
    });
  });

  test('a device clock that is far behind is not quoted', async () => {
    ordered({});
    await commands.work();
    await step('c1', 'operateSent');
    await step('c1', 'operated');
    await show('BI 0', 1, { timeSource: 'device', time: NOW - 1001 });
    expect(table.rows.get('c1')!.words).toBe('breaker: closed');
  });

  test('without a feedback point an accepted one ends as operated, and one without an answer as unknown', async () => {
    ordered({ address: 'BO 1', operation: 'pulseOn' });
    ordered({ address: 'BO 1', operation: 'pulseOn', mode: 'directNoAnswer' });
    await commands.work();
    await step('c1', 'operated');
    await step('c2', 'unanswered');
    expect(table.rows.get('c1')).toMatchObject({
      state: 'operated',
      words: 'accepted; no feedback point shows whether it happened',
      ended: NOW,
    });
    expect(table.rows.get('c2')).toMatchObject({
      state: 'unknown',
      words: 'sent without asking for an answer; no feedback point shows whether it happened',
    });
  });

  test('what the device refuses, and what fails, is the end of it; what comes after that changes nothing', async () => {
    for (let i = 0; i < 4; i++) ordered({});
    await commands.work();
    await step('c1', 'refused', { words: 'local', status: 7 });
    await step('c2', 'expired', { words: 'the device was silent' });
    await step('c3', 'failed', { words: 'the link was lost' });
    await step('c4', 'unknown', { words: 'no answer' });
    await step('c1', 'operated');
    expect(['c1', 'c2', 'c3', 'c4'].map((id) => table.rows.get(id)!.state)).toEqual([
      ...['refused', 'expired', 'failed', 'unknown'],
    ]);
    expect(table.rows.get('c1')).toMatchObject({ status: 7, words: 'local', operated: null });
    expect(given).toHaveLength(1);
    expect(given[0].outcome).toMatchObject({ result: 'refused', status: 7, protocol: 'dnp3' });
    expect(noted()[0]).toBe('breaker control: close by ada, refused: local');
  });

  test('trip switches off, and is given on as that', async () => {
    ordered({ operation: 'trip' });
    await commands.work();
    await step('c1', 'operated');
    expect(given[0].value).toBe(0);
  });

  test('a step that cannot be written is no reason to stop', async () => {
    ordered({});
    await commands.work();
    table.fails = 'note';
    await step('c1', 'operateSent');
    table.fails = '';
    await step('c1', 'operated');
    expect(table.rows.get('c1')).toMatchObject({ sent: null, state: 'operated' });
  });

  test('nobody took it in time: people are told', async () => {
    table.expired = 2;
    await commands.tick();
    expect(changes).toBe(1);
    table.fails = 'expire';
    await commands.tick();
    table.fails = '';
    table.expired = 0;
    await commands.tick();
    expect(changes).toBe(1);
    expect(table.claims).toHaveLength(3);
  });
});

describe('a setpoint', () => {
  const setTo = async (counts: number): Promise<void> => {
    ordered({ address: 'AO 0', operation: 'set', counts });
    await commands.work();
    await step('c1', 'operateSent');
    await step('c1', 'operated');
  };

  test('is confirmed by a value that is as near as its tolerance', async () => {
    await setTo(80);
    expect(orders[0]).toMatchObject({ kind: 'setpoint', operation: null, counts: 80 });
    expect(given[0]).toMatchObject({ kind: 'setpoint', value: 80 });
    await show('AI 0', 77);
    expect(table.rows.get('c1')!.state).toBe('operated');
    await show('AI 0', 82);
    expect(table.rows.get('c1')).toMatchObject({ state: 'confirmed', words: 'power: 40 kW' });
    expect(noted()).toEqual(['limit: set to 40 kW by ada, confirmed: power: 40 kW']);
  });

  test('is not confirmed by one that is further off', async () => {
    await setTo(80);
    await show('AI 0', 83);
    await vi.advanceTimersByTimeAsync(3001);
    await commands.tick();
    await vi.advanceTimersByTimeAsync(0);
    expect(table.rows.get('c1')!.words).toBe('accepted, but power did not become 40 kW in time');
  });

  test('without settings has no feedback', async () => {
    ordered({ address: 'AO 1', operation: 'set', counts: 3 });
    await commands.work();
    await step('c1', 'operated');
    expect(table.rows.get('c1')!.state).toBe('operated');
  });
});

describe('a text', () => {
  test('is written as it is, and confirmed by the text itself; no centre is told of the command', async () => {
    ordered({ address: 'OS 0', operation: 'write', text: 'north ' });
    await commands.work();
    expect(orders[0]).toMatchObject({ kind: 'text', operation: null, text: 'north ' });
    await step('c1', 'operateSent');
    await step('c1', 'operated');
    expect(given).toEqual([]);
    await show('OS 0', 0, { text: 'south' });
    expect(table.rows.get('c1')!.state).toBe('operated');
    await show('OS 0', 0, { text: 'north' });
    expect(table.rows.get('c1')).toMatchObject({ state: 'confirmed', words: 'label: "north "' });
    expect(noted()).toEqual(['label: set to "north " by ada, confirmed: label: "north "']);
  });
});

describe('a control from a centre', () => {
  const order = (more: Partial<CentreOrder> = {}): CentreOrder =>
    ({
      ...{ kind: 'output', operation: 'close', counts: null, asked: 'close', count: 1, onMs: 100, offMs: 20 },
      ...more,
    }) as CentreOrder;
  const asked = (more: Partial<CentreOrder> = {}, address = 'BO 0', phase: CentreControl['phase'] = 'direct') =>
    commands.fromCentre({ outbound: 'QST', device: 'D', address, phase, order: order(more) } as CentreControl);
  const rows = (): Command[] => [...table.rows.values()];

  test('is a row like any other, with five seconds to be taken; its answer is what the device said', async () => {
    const answer = asked();
    await vi.advanceTimersByTimeAsync(0);
    expect(rows()[0]).toMatchObject({
      ...{ device: 'D', address: 'BO 0', pointId: 2, operation: 'close', mode: 'direct', onMs: 100, offMs: 20 },
      ...{ requestedBy: 'centre QST', outbound: 'QST', requested: NOW, expires: NOW + 5000 },
    });
    await commands.work();
    await step(rows()[0].id, 'operated');
    expect(await answer).toEqual(outcome('done'));
  });

  test('those that come one behind the other become rows in that order', async () => {
    const set = { kind: 'setpoint', operation: null, asked: '' } as const;
    void asked({ ...set, counts: 11 }, 'AO 0');
    void asked({ ...set, counts: 12 }, 'AO 0');
    await vi.advanceTimersByTimeAsync(49);
    expect(rows()).toEqual([]);
    await vi.advanceTimersByTimeAsync(1);
    expect(rows().map(({ counts }) => counts)).toEqual([11, 12]);
  });

  test('select, operate, and both at once are told apart', async () => {
    for (const phase of ['select', 'operate', 'direct'] as const) void asked({}, 'BO 0', phase);
    await vi.advanceTimersByTimeAsync(0);
    expect(rows().map(({ mode }) => mode)).toEqual(['selectOnly', 'selectOperate', 'direct']);
    await commands.work();
    await step(rows()[0].id, 'selected');
    expect(rows()[0]).toMatchObject({ state: 'selected', ended: NOW, status: 0 });
    await step(rows()[1].id, 'selected');
    expect(rows()[1]).toMatchObject({ state: 'claimed', selected: NOW });
  });

  test('the answer to a select is that it was selected', async () => {
    const answer = asked({}, 'BO 0', 'select');
    await vi.advanceTimersByTimeAsync(0);
    await commands.work();
    await step(rows()[0].id, 'selected');
    expect(await answer).toEqual(outcome('done'));
  });

  test('a refusal of the device is passed on with its status', async () => {
    const answer = asked();
    await vi.advanceTimersByTimeAsync(0);
    await commands.work();
    await step(rows()[0].id, 'refused', { words: 'local', status: 7 });
    expect(await answer).toMatchObject({ result: 'refused', status: 7, protocol: 'dnp3' });
  });

  test('whoever waits is answered within eight seconds that it failed, whatever happens', async () => {
    const answer = asked();
    let said: unknown = null;
    void answer.then((one) => (said = one));
    await vi.advanceTimersByTimeAsync(7999);
    expect(said).toBeNull();
    await vi.advanceTimersByTimeAsync(1);
    expect(said).toEqual(outcome('failed'));
  });

  test('one that expired before it was taken has failed', async () => {
    const answer = asked();
    await vi.advanceTimersByTimeAsync(5000);
    await commands.work();
    expect(await answer).toEqual(outcome('failed'));
    expect(noted()).toEqual(['close by centre QST: expired, not sent']);
  });

  test('what cannot be recorded is not sent', async () => {
    table.fails = 'order';
    expect(await asked()).toEqual(outcome('failed'));
    expect(rows()).toEqual([]);
  });

  test('what the list does not have, or does not allow, is not supported, and no row is made', async () => {
    expect(await asked({}, 'BO 9')).toEqual(outcome('notSupported'));
    expect(await asked({}, 'BI 0')).toEqual(outcome('notSupported'));
    expect(await asked({ operation: 'latchOn' })).toEqual(outcome('notSupported'));
    expect(await asked({ operation: null, asked: 'code 9' })).toEqual(outcome('notSupported'));
    expect(noted()).toEqual([
      'breaker control: latch on by centre QST, not sent: the list does not allow it',
      'breaker control: code 9 by centre QST, not sent: the list does not allow it',
    ]);
    expect(rows()).toEqual([]);
  });

  test("on and off alone become the list's own way of that, with its times", async () => {
    void asked({ on: true, operation: null, onMs: 0, offMs: 0 });
    void asked({ on: false, operation: null, onMs: 0, offMs: 0 });
    await vi.advanceTimersByTimeAsync(0);
    expect(rows().map(({ operation, onMs, offMs }) => [operation, onMs, offMs])).toEqual([
      ['close', 120, 30],
      ['trip', 120, 30],
    ]);
  });

  test('a setpoint is set within its range, and refused beyond it', async () => {
    void asked({ kind: 'setpoint', operation: null, counts: 200 }, 'AO 0');
    await vi.advanceTimersByTimeAsync(0);
    expect(rows()[0]).toMatchObject({ operation: 'set', counts: 200, text: null });
    expect(await asked({ kind: 'setpoint', operation: null, counts: 201 }, 'AO 0')).toEqual(outcome('outOfRange'));
    expect(await asked({ kind: 'setpoint', operation: null, counts: 1 }, 'AO 1')).toEqual(outcome('notSupported'));
    expect(rows()).toHaveLength(1);
    expect(noted()[0]).toMatch(/^set by centre QST, not sent: /);
  });

  test('a text is written', async () => {
    void asked({ kind: 'text', operation: null, text: 'north' }, 'OS 0');
    await vi.advanceTimersByTimeAsync(0);
    expect(rows()[0]).toMatchObject({ operation: 'write', counts: null, text: 'north' });
    expect(await asked({ kind: 'text', operation: null, text: 'n\u0000' }, 'OS 0')).toEqual(outcome('outOfRange'));
  });
});
