import { describe, expect, test } from 'vitest';
import type { ControlStep } from '../../control.ts';
import type { MmsObjects } from '../../mms/server.ts';
import { Talk } from '../../mms/trials/talk.ts';
import type { AccessResult, Data, TypeOf } from '../../mms/wire/data.ts';
import type { Variables } from '../../mms/wire/services.ts';
import { applicationErrorData, CAUSES, MODELS, type ControlModel } from '../control.ts';
import { Operation, type Operating } from './operating.ts';

const structure = (parts: Record<string, TypeOf>): TypeOf => ({
  type: 'structure',
  components: Object.entries(parts).map(([name, of]) => ({ name, of })),
});
const OPER = structure({
  ctlVal: { type: 'boolean' },
  origin: structure({ orCat: { type: 'integer', bits: 8 }, orIdent: { type: 'octets', size: -64 } }),
  ctlNum: { type: 'unsigned', bits: 8 },
  T: { type: 'utcTime' },
  Test: { type: 'boolean' },
  Check: { type: 'bits', size: -2 },
});
const CANCEL: TypeOf = { type: 'structure', components: OPER.type === 'structure' ? OPER.components.slice(0, 5) : [] };
const NAME = { scope: 'domain' as const, domain: 'HLMF1', item: 'CSWI1$CO$Pos$Oper' };
const origin = { category: 3, identity: new Uint8Array() };
const wish: Operating = {
  ...{ domain: 'HLMF1', item: 'CSWI1$CO$Pos', model: 'direct', oper: OPER, selectWithValue: OPER, cancel: CANCEL },
  ...{ terminationMs: 5000, expiresAt: Infinity, selectOnly: false, isSelected: false },
  control: {
    value: { type: 'boolean', value: true },
    ...{ origin, number: 7, time: 1000, test: false, synchrocheck: false, interlock: false },
  },
};
const errorOf = (cause: number, number = 7): Data =>
  applicationErrorData({ object: 'HLMF1/CSWI1$CO$Pos$Oper', error: 1, origin, number, cause });

class Device {
  readonly writes: string[] = [];
  sbo = 'HLMF1/CSWI1$CO$Pos';
  refuses: Record<string, number> = {};
  /** Before a refusal. */
  cause: number | null = null;
  readonly talk: Talk;
  readonly steps: ControlStep[] = [];
  operation!: Operation;

  constructor() {
    const objects: MmsObjects = {
      identity: { vendor: '', model: '', revision: '' },
      names: () => [],
      typeOf: () => null,
      read: () => ({ type: 'text', text: this.sbo, wide: false }),
      write: ({ name }, _value, done) => {
        const part = name.item.split('$').at(-1) ?? '';
        this.writes.push(part);
        if (part in this.refuses && this.cause !== null)
          this.say({ names: [{ name: { scope: 'vmd', item: 'LastApplError' } }] }, [errorOf(this.cause)]);
        done(this.refuses[part] ?? null);
      },
      list: () => null,
      defineList: () => null,
      deleteList: () => false,
    };
    this.talk = new Talk(objects).start();
    this.talk.onTold = ({ variables, results }) => this.operation.onReport(variables, results);
  }

  say(variables: Variables, results: readonly AccessResult[]): void {
    this.talk.server.report(variables, results);
  }

  operate(change: Partial<Operating>): this {
    this.operation = new Operation(this.talk.client, { ...wish, ...change }, (step) => this.steps.push(step));
    this.operation.start(this.talk.now);
    this.pump();
    return this;
  }

  pump(): void {
    this.talk.pump();
  }

  /** Command termination; with a cause, a negative one. */
  terminate(cause: number | null): void {
    const last = { name: { scope: 'vmd' as const, item: 'LastApplError' } };
    if (cause === null) this.say({ names: [{ name: NAME }] }, [{ type: 'boolean', value: true }]);
    else this.say({ names: [last, { name: NAME }] }, [errorOf(cause), { type: 'boolean', value: true }]);
    this.pump();
  }
  get words(): string[] {
    return this.steps.map((one) => ('words' in one && one.words ? `${one.step}: ${one.words}` : one.step));
  }
}

describe('a control', () => {
  test('by each model, as far as the device goes along', () => {
    const ends: Record<ControlModel, [string[], string[]]> = {
      statusOnly: [['failed: it can only be seen; nothing was sent'], []],
      direct: [['operateSent', 'operated'], ['Oper']],
      selectBeforeOperate: [['selectSent', 'selected', 'operateSent', 'operated'], ['Oper']],
      directEnhanced: [['operateSent'], ['Oper']],
      selectBeforeOperateEnhanced: [
        ['selectSent', 'selected', 'operateSent'],
        ['SBOw', 'Oper'],
      ],
    };
    for (const model of MODELS) {
      const device = new Device().operate({ model });
      expect([model, device.words, device.writes]).toEqual([model, ...ends[model]]);
    }
  });

  test('an enhanced one has ended when the device says so', () => {
    const device = new Device().operate({ model: 'selectBeforeOperateEnhanced' });
    device.terminate(null);
    expect([device.words.at(-1), device.operation.deadline]).toEqual(['operated', null]);
    device.terminate(null);
    expect(device.words.filter((one) => one === 'operated')).toHaveLength(1);
  });

  test('an end that is not told is unknown', () => {
    const device = new Device().operate({ model: 'directEnhanced' });
    device.operation.wake(device.talk.now + 4999);
    expect(device.operation.hasEnded).toBe(false);
    device.operation.wake(device.talk.now + 5000);
    expect(device.words.at(-1)).toBe('unknown: operate was accepted, but its end was not told in 5000 ms');
    device.terminate(null);
    expect(device.words).toHaveLength(2);
  });

  test.each(CAUSES.map((words, cause) => [cause, words] as const))(
    'refused by cause %i, %s: at select, at operate, at the end',
    (cause, words) => {
      const atSelect = new Device();
      Object.assign(atSelect, { refuses: { SBOw: 3 }, cause });
      atSelect.operate({ model: 'selectBeforeOperateEnhanced' });
      expect(atSelect.steps.at(-1)).toEqual({ step: 'refused', status: cause, words: `${words} (unknown)` });
      expect(atSelect.writes).toEqual(['SBOw']);
      const atOperate = new Device();
      Object.assign(atOperate, { refuses: { Oper: 3 }, cause });
      atOperate.operate({ model: 'direct' });
      expect(atOperate.steps.at(-1)).toEqual({ step: 'refused', status: cause, words: `${words} (unknown)` });
      const atEnd = new Device().operate({ model: 'directEnhanced' });
      atEnd.terminate(cause);
      expect(atEnd.steps.at(-1)).toEqual({ step: 'refused', status: cause, words: `${words} (unknown)` });
    },
  );

  test('refused without a cause, or with that of another control', () => {
    const device = new Device();
    device.refuses = { Oper: 3 };
    device.operate({ model: 'direct' });
    expect(device.words.at(-1)).toBe('refused: access denied');
    const other = new Device();
    other.sbo = '';
    other.operate({ model: 'selectBeforeOperate' });
    expect(other.words.at(-1)).toBe('refused: select failed');
    const enhanced = new Device().operate({ model: 'directEnhanced' });
    const last = { name: { scope: 'vmd' as const, item: 'LastApplError' } };
    enhanced.say({ names: [last, { name: NAME }] }, [errorOf(5, 8), { type: 'boolean', value: true }]);
    enhanced.pump();
    expect(enhanced.operation.hasEnded).toBe(false);
  });

  test('a select alone, and one that expires in between', () => {
    const alone = new Device().operate({ model: 'selectBeforeOperateEnhanced', selectOnly: true });
    expect([alone.words, alone.writes]).toEqual([['selectSent', 'selected'], ['SBOw']]);
    const late = new Device().operate({ model: 'selectBeforeOperate', expiresAt: 0 });
    expect([late.words.at(-1), late.writes]).toEqual(['expired: it expired after the select', ['Cancel']]);
  });

  test('with the connection lost: nothing was operated, or nobody knows', () => {
    const device = new Device();
    device.talk.wire = () => null;
    device.operate({ model: 'selectBeforeOperate' });
    device.talk.client.lost(device.talk.now);
    expect(device.words.at(-1)).toBe('failed: select: the connection was lost; nothing was operated');
    const direct = new Device();
    direct.talk.wire = () => null;
    direct.operate({ model: 'direct' });
    direct.talk.client.lost(direct.talk.now);
    expect(direct.words.at(-1)).toBe('unknown: operate was sent, but the connection was lost');
  });
});
