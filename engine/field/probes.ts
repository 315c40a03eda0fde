import { definitionOf, type AnswerTable, type ProtocolCode, type TrialEffect, deviceOf } from '@halvix/core/protocols';
import { clientSide } from '@halvix/core/protocols/sessions';
import {
  NO_PROBE_RESULT,
  type ProbeRequest,
  type ProbeResult,
  type ProbeState,
  type ProbeStep,
} from '@halvix/core/path';
import { claimProbe, noteProbe, openedTry, type Database } from '@halvix/db';
import { clock, Driver, inWords } from '@halvix/wire';
import { makeTransport } from '../links/transport.ts';
import { endpointWords, type LinkConfig } from '@halvix/core/config';
import { lookup } from 'node:dns/promises';
import type { DeviceRunner } from './device.ts';
import { log, reason } from '../log.ts';

export interface ProbeContext {
  database: Database;
  engine: string;
  devices: () => ReadonlyMap<string, DeviceRunner>;
}

const MAX_RUNNING = 8;
const SURVEY_LIMIT_MS = 60_000;

/** What a failed connection usually means, by the error's words. */
const MEANINGS: [RegExp, string][] = [
  [
    /outside the networks/,
    'Whoever runs this machine has limited what may be connected to (HALVIX_FIELD_NETWORKS): ask for this network there.',
  ],
  [
    /refused/,
    'The host is there, but nothing listens on that port: wrong port, or PROTOCOL is switched off on the device.',
  ],
  [
    /no route|not reachable/,
    'This machine has no way to that network: gateway, VLAN, or the wrong network port of this machine.',
  ],
  [/not known|looked up/, 'The name is not in the name service: give the IP address, or have the name entered.'],
  [
    /no connection in|no answer/,
    'Nothing answers at that address: device off, cable, wrong address, or a firewall that drops silently.',
  ],
  [
    /reset|closed/,
    'The device takes no connection from here: it may know its masters by their IP address, or has no free connection.',
  ],
];

/**
 * Questions to the field that a person waits for: tries of a device that is not in service, and surveys. Some go on at a
 * time, the others wait for their turn.
 */
export class Probes {
  /** By how it is cancelled. */
  private readonly running = new Map<string, () => void>();
  /** Those of them that play: they go on until somebody ends them, and keep nobody else waiting. */
  private readonly playing = new Set<string>();
  private readonly waiting = new Set<string>();
  private stopped = false;

  constructor(private readonly context: ProbeContext) {}

  /** Resolves once it is over, or waits. */
  async begin(id: string): Promise<void> {
    if (this.running.has(id) || this.waiting.has(id)) return;
    if (this.hasRoom) await this.carryOut(id);
    else this.waiting.add(id);
  }

  private get hasRoom(): boolean {
    return this.running.size - this.playing.size < MAX_RUNNING;
  }

  private beginNext(): void {
    for (const id of this.waiting) {
      if (!this.hasRoom || this.stopped) return;
      this.waiting.delete(id);
      void this.carryOut(id);
    }
  }

  private async carryOut(id: string, isCancelled = false): Promise<void> {
    const { database, engine, devices } = this.context;
    let cancelledEarly = isCancelled;
    this.running.set(id, () => (cancelledEarly = true));
    try {
      const probe = await claimProbe(database, id, engine, clock.now());
      if (probe === null) return;
      const { request } = probe;
      const note = new Notes(database, id);
      if (cancelledEarly) return await note.end('cancelled', null);
      switch (request.type) {
        case 'try': {
          const { request: openly, problem } = await openedTry(database, request);
          if (problem !== null) return await note.end('bad', problem);
          await this.attempt(id, openly, note);
          break;
        }
        case 'survey': {
          const device = devices().get(request.device);
          if (device === undefined) return await note.end('bad', `${request.device} does not run: apply it first`);
          const limit = new Promise<null>((resolve) => setTimeout(resolve, SURVEY_LIMIT_MS, null).unref());
          const cancelled = new Promise<'cancelled'>((resolve) => this.running.set(id, () => resolve('cancelled')));
          const answer = await Promise.race([device.survey(id), limit, cancelled]);
          if (answer === 'cancelled') return await note.end('cancelled', null);
          if (answer === null) return await note.end('bad', `no complete answer in ${SURVEY_LIMIT_MS / 1000} s`);
          note.result.surveyed = answer.found;
          note.result.attributes = answer.attributes;
          await note.end(answer.problem === null ? 'good' : 'bad', answer.problem);
          break;
        }
        case 'ask': {
          const device = devices().get(request.device);
          if (device === undefined) return await note.end('bad', `${request.device} does not run: apply it first`);
          const limit = new Promise<null>((resolve) => setTimeout(resolve, SURVEY_LIMIT_MS, null).unref());
          const asked = await Promise.race([device.inquire(request.order, probe.requestedBy), limit]);
          if (asked === null) return await note.end('bad', `no complete answer in ${SURVEY_LIMIT_MS / 1000} s`);
          const { problem, answer } = asked;
          note.result.answered = { words: answer.words ?? '', tables: asRows(answer.tables ?? []) };
          await note.end(problem === null ? 'good' : 'bad', problem);
          break;
        }
        case 'play':
          await this.play(id, request, probe.requestedBy, note);
          break;
        default:
          request satisfies never;
      }
    } catch (error) {
      log('error', 'a probe failed', { id, reason: reason(error) });
    } finally {
      this.running.delete(id);
      this.playing.delete(id);
      this.beginNext();
    }
  }

  /** A point plays until it is cancelled, or cannot any more. */
  private async play(
    id: string,
    { device: code, point, play }: ProbeRequest & { type: 'play' },
    by: string,
    note: Notes,
  ): Promise<void> {
    const device = this.context.devices().get(code);
    if (device === undefined) return note.end('bad', `${code} does not run: apply it first`);
    this.playing.add(id);
    this.beginNext();
    this.running.set(id, () => device.plays.end(id));
    const why = await new Promise<string | null>((ended) => {
      const objection = device.plays.begin(point, play, { id, by, ended });
      if (objection !== null) ended(objection);
    });
    await note.end(why === null ? 'cancelled' : 'bad', why);
  }

  cancel(id: string): void {
    if (this.waiting.delete(id)) void this.carryOut(id, true);
    else this.running.get(id)?.();
  }

  stop(): void {
    this.stopped = true;
    for (const cancel of this.running.values()) cancel();
  }

  private async attempt(id: string, { link, device }: ProbeRequest & { type: 'try' }, note: Notes): Promise<void> {
    const stopped = new Promise<'cancelled'>((resolve) => this.running.set(id, () => resolve('cancelled')));
    const began = clock.now();
    if (link.type === 'tcpServer') {
      note.step({
        step: 'connect',
        state: 'bad',
        words: 'this device calls us: there is nowhere to connect to',
        meaning: 'Apply it on test: once the device calls, its page says so. What is tried here is what we can call.',
      });
      return note.end('bad', null);
    }
    if (link.type === 'serial') {
      const outcome = await Promise.race([this.converse(link, device, note, began), stopped]);
      if (typeof outcome === 'string') return note.end('cancelled', null);
      return note.end(outcome.good ? 'good' : 'bad', null);
    }
    note.step({ step: 'resolve', state: 'running', words: `looking up ${link.host}`, meaning: '' });
    const found = await Promise.race([
      lookup(link.host).then(
        ({ address }) => ({ address }),
        (error: Error) => ({ problem: inWords(error) }),
      ),
      stopped,
    ]);
    if (found === 'cancelled') return note.end('cancelled', null);
    if ('problem' in found) {
      note.step({
        step: 'resolve',
        state: 'bad',
        words: found.problem,
        meaning: meaningOf(found.problem, device.protocol),
      });
      return note.end('bad', null);
    }
    note.step({
      step: 'resolve',
      state: 'good',
      words: found.address === link.host ? `${link.host} is an address` : `${link.host} is ${found.address}`,
      meaning: '',
    });
    const outcome = await Promise.race([
      this.converse({ ...link, host: found.address, tls: namedTls(link) }, device, note, began),
      stopped,
    ]);
    if (typeof outcome === 'string') return note.end('cancelled', null);
    return note.end(outcome.good ? 'good' : 'bad', null);
  }

  /** Connects once and runs the trial on the connection. */
  private converse(
    link: (ProbeRequest & { type: 'try' })['link'],
    { protocol, settings }: (ProbeRequest & { type: 'try' })['device'],
    note: Notes,
    began: number,
  ): Promise<{ good: boolean }> {
    const { steps } = deviceOf(protocol).trial;
    return new Promise((resolve) => {
      let over = false;
      const finish = (good: boolean): void => {
        if (over) return;
        over = true;
        client?.close();
        driver.close();
        this.running.delete(note.id);
        resolve({ good });
      };
      const onEffect = (effect: TrialEffect): void => {
        switch (effect.type) {
          case 'send':
            client?.send(effect.octets);
            break;
          case 'step':
            note.step(effect);
            break;
          case 'ended':
            finish(effect.good);
            break;
          default:
            effect satisfies never;
        }
      };
      const driver = new Driver(clientSide(protocol).trial(settings, link.framing, clock.now()), onEffect);
      note.step({ step: 'connect', state: 'running', words: `connecting to ${endpointWords(link)}`, meaning: '' });
      const client = makeTransport(link, {
        up: () => {
          const words = `connected to ${endpointWords(link)} after ${clock.now() - began} ms`;
          note.step({ step: 'connect', state: 'good', words, meaning: '' });
          driver.start();
        },
        down: () => driver.stop(),
        data: (bytes) => driver.receive(bytes),
        changed: () => {
          if (client === null) return;
          const { state, problem } = client.state;
          if (state !== 'waiting' || Object.keys(steps).some((step) => note.has(step))) return;
          const words = problem ?? 'no connection';
          note.step({ step: 'connect', state: 'bad', words, meaning: meaningOf(words, protocol) });
          finish(false);
        },
      });
      const cancel = this.running.get(note.id);
      this.running.set(note.id, () => {
        cancel?.();
        finish(false);
      });
      client?.open();
    });
  }
}

type Answered = NonNullable<ProbeResult['answered']>['tables'];
const asRows = (tables: readonly AnswerTable[]): Answered =>
  tables.map(({ title, columns, rows }) => ({
    ...{ title, columns: [...columns] },
    rows: rows.map(({ cells, asks = [] }) => ({
      cells: [...cells],
      asks: asks.map(({ words, order, fields }) => ({
        ...{ words, order: { ...order } },
        fields: fields.map(({ limits, ...field }) => ({
          ...field,
          limits: limits && ([...limits] as [number, number]),
        })),
      })),
    })),
  }));

/** The certificate is for the name, not for the address that was found for it. */
const namedTls = ({ tls, host }: LinkConfig): LinkConfig['tls'] => ({ ...tls, serverName: tls.serverName || host });

const meaningOf = (words: string, protocol: ProtocolCode): string =>
  (MEANINGS.find(([test]) => test.test(words))?.[1] ?? '').replace('PROTOCOL', definitionOf(protocol).words.name);

/** Writes what became of a probe, in order, as it goes. */
class Notes {
  readonly result: ProbeResult = structuredClone(NO_PROBE_RESULT);
  private writes: Promise<void> = Promise.resolve();

  constructor(
    private readonly database: Database,
    readonly id: string,
  ) {}

  has(step: ProbeStep['step']): boolean {
    return this.result.steps.some((one) => one.step === step);
  }

  step({ step, state, words, meaning }: Omit<ProbeStep, 'at'>): void {
    const noted = { step, state, words, meaning, at: clock.now() };
    const at = this.result.steps.findIndex((one) => one.step === step);
    if (at < 0) this.result.steps.push(noted);
    else this.result.steps[at] = noted;
    this.write('running');
  }

  end(state: ProbeState, problem: string | null): Promise<void> {
    this.result.problem = problem;
    this.write(state);
    return this.writes;
  }

  private write(state: ProbeState): void {
    const result = structuredClone(this.result);
    this.writes = this.writes
      .then(() => noteProbe(this.database, this.id, state, result, clock.now()))
      .catch((error: unknown) => log('error', 'a probe was not written', { id: this.id, reason: reason(error) }));
  }
}
