import fc from 'fast-check';
import { describe, expect, test } from 'vitest';
import { FunctionCode } from '../wire/application.ts';
import { decodeFileObject, encodeFileObject, readDirectory, writeDirectory, type FileObject } from './file.ts';
import { FileJob } from './filejob.ts';
import { encodeLinkFrame, LinkParser, PrimaryFunction } from '../wire/link.ts';
import { Loop } from '../trials/loop.ts';
import type { Order } from '../order.ts';
import type { MasterSettings, OutstationSettings } from '../settings.ts';

const CONTENT = Uint8Array.from({ length: 5000 }, (_, i) => (i * 7) & 0xff);
const FILES = [
  { name: 'RECORD01.CFG', content: Uint8Array.from([1, 2, 3]), time: 1_700_000_000_000 },
  { name: 'RECORD01.DAT', content: CONTENT, time: 1_700_000_001_000 },
];

function started(
  master: Partial<MasterSettings> = {},
  outstation: Partial<OutstationSettings> = {},
  files = FILES,
): Loop {
  const polls = { class1PeriodMs: 0, class2PeriodMs: 0, class3PeriodMs: 0, integrityPeriodMs: 0 };
  const loop = new Loop([], { ...polls, ...master }, outstation);
  loop.connect();
  loop.toOutstation({ type: 'setFiles', files });
  loop.pass(100);
  return loop;
}
function order(loop: Loop, wanted: Order, waitMs = 1000) {
  loop.toMaster({ type: 'order', id: 'o', order: wanted });
  loop.pass(waitMs);
  return loop.masterEffects.filter((e) => e.type === 'ordered').at(-1);
}
/** Function codes of the master's requests. */
const requests = (loop: Loop): number[] =>
  loop.sent
    .filter(({ towards }) => towards === 'outstation')
    .flatMap(({ octets }) => new LinkParser().push(octets))
    .flatMap((e) => (e.type === 'frame' ? [e.frame.data[2]] : []));

describe('files', () => {
  test('the directory, and a file in blocks that fit a fragment, opened and closed', () => {
    const loop = started({ maxFragment: 600 }, { maxFragment: 600 });
    expect(order(loop, { what: 'directory', name: '' })?.answer.directory).toEqual([
      { name: 'RECORD01.CFG', isDirectory: false, size: 3, time: 1_700_000_000_000 },
      { name: 'RECORD01.DAT', isDirectory: false, size: 5000, time: 1_700_000_001_000 },
    ]);
    const before = requests(loop).length;
    const answer = order(loop, { what: 'readFile', name: 'RECORD01.DAT' });
    expect(answer?.problem).toBeNull();
    expect(answer?.answer.file).toEqual(CONTENT);
    const codes = requests(loop).slice(before);
    expect(codes[0]).toBe(FunctionCode.openFile);
    expect(codes.at(-1)).toBe(FunctionCode.closeFile);
    // 600 octets less the headers of fragment and object.
    expect(codes.slice(1, -1)).toEqual(Array(Math.ceil(5000 / 582)).fill(FunctionCode.read));
  });

  test('polls go on between the blocks', () => {
    const loop = started({ maxFragment: 249, class1PeriodMs: 200 }, { maxFragment: 249 });
    loop.toMaster({ type: 'order', id: 'o', order: { what: 'readFile', name: 'RECORD01.DAT' } });
    loop.pass(1000);
    expect(loop.masterEffects.find((e) => e.type === 'ordered')?.problem).toBeNull();
    expect(loop.master.counters.values.timeouts).toBe(0);
  });

  test('a file that is not there, and a device without files, say so', () => {
    expect(order(started(), { what: 'readFile', name: 'NONE' })?.problem).toBe('NONE: there is no such file');
    expect(order(started({}, {}, []), { what: 'directory', name: '' })?.problem).toContain(
      'function code not supported',
    );
  });

  /** Loses answers with a block, from the second one on, so many of them. */
  function losing(loop: Loop, howMany: number): void {
    let blocks = 0;
    loop.wire = (octets, towards) => {
      if (towards !== 'master' || octets.length <= 1000) return octets;
      blocks++;
      return blocks > 1 && blocks <= 1 + howMany ? null : octets;
    };
  }

  test('a block whose answer was lost is asked for again', () => {
    const loop = started();
    losing(loop, 2);
    expect(order(loop, { what: 'readFile', name: 'RECORD01.DAT' }, 5000)?.answer.file).toEqual(CONTENT);
    expect(loop.master.counters.values.retries).toBe(2);
  });

  test('one that does not come ends the order, and what is open is closed', () => {
    const loop = started();
    losing(loop, 3);
    expect(order(loop, { what: 'readFile', name: 'RECORD01.DAT' }, 6000)?.problem).toBe('the device did not answer');
    expect(requests(loop).at(-1)).toBe(FunctionCode.closeFile);
    loop.wire = (octets) => octets;
    expect(order(loop, { what: 'readFile', name: 'RECORD01.DAT' })?.answer.file).toEqual(CONTENT);
  });

  test('a device that never comes to the last block is not listened to for ever', () => {
    const job = new FileJob({ what: 'readFile', name: 'A' }, 100, 1);
    job.take({ variation: 4, handle: 7, size: 0, maxBlock: 100, requestId: 1, status: 0 });
    job.take({ variation: 5, handle: 7, block: 0, last: false, data: new Uint8Array(0) });
    expect(job.next()).toMatchObject({ step: 'send', functionCode: FunctionCode.closeFile });
    job.take(null);
    expect(job.next()).toEqual({ step: 'failed', words: 'A: an empty block that is not the last' });
  });

  test('a link that is lost in between ends the order', () => {
    const loop = started();
    loop.wire = (octets, towards) => (towards === 'master' ? null : octets);
    loop.toMaster({ type: 'order', id: 'o', order: { what: 'readFile', name: 'RECORD01.DAT' } });
    loop.disconnect();
    expect(loop.masterEffects.filter((e) => e.type === 'ordered').at(-1)?.problem).toContain('the link was lost');
  });

  test('a device that wants to know who asks gives a key for each thing that is done with a file', () => {
    const loop = started();
    const rules = { credentials: { user: 'records', password: 'vole' }, mayDelete: true };
    loop.toOutstation({ type: 'setFiles', files: FILES, rules });
    const [wanted, as] = [{ what: 'readFile', name: 'RECORD01.DAT' } as const, rules.credentials];
    expect(order(loop, wanted)?.problem).toBe('RECORD01.DAT: permission denied');
    expect(order(loop, { ...wanted, as: { ...as, password: 'mole' } })?.problem).toBe(
      'the device refused the name or the password',
    );
    const before = requests(loop).length;
    expect(order(loop, { ...wanted, as })?.answer.file).toEqual(CONTENT);
    expect(requests(loop).slice(before, before + 2)).toEqual([FunctionCode.authenticateFile, FunctionCode.openFile]);
    // The key was good for one thing.
    expect(order(loop, { what: 'deleteFile', name: 'RECORD01.CFG' })?.problem).toContain('permission denied');
    expect(order(loop, { what: 'deleteFile', name: 'RECORD01.CFG', as })?.problem).toBeNull();
    expect(loop.outstationEffects.filter((e) => e.type === 'fileDeleted')).toMatchObject([{ name: 'RECORD01.CFG' }]);
    expect(order(loop, { what: 'directory', name: '', as })?.answer.directory).toHaveLength(1);
    expect(order(loop, { what: 'deleteFile', name: 'RECORD01.CFG', as })?.problem).toContain('no such file');
  });

  test('information of one file, and the octets that have come so far', () => {
    const loop = started({ maxFragment: 600 }, { maxFragment: 600 });
    expect(order(loop, { what: 'fileInformation', name: 'RECORD01.DAT' })?.answer.directory).toEqual([
      { name: 'RECORD01.DAT', isDirectory: false, size: 5000, time: 1_700_000_001_000 },
    ]);
    expect(order(loop, { what: 'fileInformation', name: 'NONE' })?.problem).toContain('no such file');
    order(loop, { what: 'readFile', name: 'RECORD01.DAT' });
    const progress = loop.masterEffects.flatMap((e) => (e.type === 'fileProgress' ? [e.octets] : []));
    expect(progress[0]).toBe(582);
    expect([...progress].sort((a, b) => a - b)).toEqual(progress);
  });

  test('where nothing may be deleted, nothing is', () => {
    const loop = started();
    expect(order(loop, { what: 'deleteFile', name: 'RECORD01.CFG' })?.problem).toContain('permission denied');
    expect(order(loop, { what: 'directory', name: '' })?.answer.directory).toHaveLength(2);
  });

  test('information of a file, a wrong block and a wrong handle', () => {
    const loop = started();
    const ask = (functionCode: number, object: FileObject, sequence: number): FileObject | string => {
      const data = Uint8Array.from([0xc0, 0xc0 | sequence, functionCode, ...encodeFileObject(object)]);
      const frame = { fromMaster: true, primary: true, countBit: false, countValid: false };
      const address = { destination: 11, source: 1, functionCode: PrimaryFunction.unconfirmedUserData };
      const before = loop.sent.length;
      loop.outstation.receive(encodeLinkFrame({ ...frame, ...address, data }), loop.now);
      loop.pump();
      const [answer] = loop.sent.slice(before).flatMap(({ octets }) => new LinkParser().push(octets));
      const decoded = answer.type === 'frame' ? decodeFileObject(answer.frame.data.subarray(1), 4) : null;
      return decoded?.ok ? decoded.value : (decoded?.problem ?? 'nothing');
    };
    const information = {
      variation: 7,
      name: 'RECORD01.CFG',
      isDirectory: false,
      size: 0,
      time: 0,
      requestId: 9,
    } as const;
    expect(ask(FunctionCode.getFileInformation, information, 1)).toMatchObject({ variation: 7, size: 3, requestId: 9 });
    const open = { variation: 3, name: 'RECORD01.DAT', key: 0, mode: 1, maxBlock: 100, requestId: 1 } as const;
    const opened = ask(FunctionCode.openFile, open, 2);
    expect(opened).toMatchObject({ variation: 4, size: 5000, maxBlock: 100, status: 0 });
    const handle = typeof opened === 'object' && opened.variation === 4 ? opened.handle : 0;
    const read = { variation: 5, handle, block: 3, last: false, data: new Uint8Array(0) } as const;
    expect(ask(FunctionCode.read, read, 3)).toMatchObject({ variation: 6, status: 18 });
    expect(ask(FunctionCode.read, { ...read, block: 0 }, 4)).toMatchObject({ variation: 5, block: 0, last: false });
    expect(ask(FunctionCode.read, { ...read, handle: handle + 1, block: 0 }, 5)).toMatchObject({
      variation: 6,
      status: 6,
    });
  });
});

describe('file objects', () => {
  const name = fc.string({ minLength: 0, maxLength: 40 }).map((s) => s.replace(/[^ -~]/g, 'x'));
  const u16 = fc.nat(0xffff);
  const u32 = fc.nat(0xffff_ffff);
  const block = fc.nat(0x7fff_ffff);
  const entry = fc.record({ name, isDirectory: fc.boolean(), size: u32, time: fc.nat({ max: 2 ** 45 }) });
  const object: fc.Arbitrary<FileObject> = fc.oneof(
    fc.record({ variation: fc.constant(2 as const), user: name, password: name, key: u32 }),
    fc.record({ variation: fc.constant(3 as const), name, key: u32, mode: u16, maxBlock: u16, requestId: u16 }),
    fc.record({
      variation: fc.constant(4 as const),
      handle: u32,
      size: u32,
      maxBlock: u16,
      requestId: u16,
      status: fc.nat(255),
    }),
    fc.record({
      variation: fc.constant(5 as const),
      handle: u32,
      block,
      last: fc.boolean(),
      data: fc.uint8Array({ maxLength: 60 }),
    }),
    fc.record({ variation: fc.constant(6 as const), handle: u32, block, last: fc.boolean(), status: fc.nat(255) }),
    entry.chain((one) =>
      fc.record({ variation: fc.constant(7 as const), requestId: u16 }).map((own) => ({ ...one, ...own })),
    ),
  );

  test('decoding is the inverse of encoding', () =>
    fc.assert(
      fc.property(object, (one) => {
        expect(decodeFileObject(encodeFileObject(one), 0)).toEqual({ ok: true, value: one });
      }),
    ));

  test('a directory comes back as it was, and one that is cut off loses its end only', () =>
    fc.assert(
      fc.property(fc.array(entry, { maxLength: 10 }), fc.nat(400), (entries, cut) => {
        const octets = writeDirectory(entries);
        expect(readDirectory(octets)).toEqual(entries);
        const read = readDirectory(octets.subarray(0, cut));
        expect(entries.slice(0, read.length)).toEqual(read);
      }),
    ));

  test('whatever octets come, there is an object or a reason', () =>
    fc.assert(
      fc.property(fc.uint8Array({ maxLength: 80 }), fc.integer({ min: 0, max: 8 }), (octets, variation) => {
        const given = octets.slice();
        given.set([70, variation, 0x5b, 1].slice(0, given.length));
        const decoded = decodeFileObject(given, 0);
        expect(decoded.ok || decoded.problem.length > 0).toBe(true);
        readDirectory(octets);
      }),
    ));
});
