import { sameBytes } from '../../../bytes/index.ts';
import type { Instant } from '../../../session/index.ts';
import {
  ControlStatus,
  CONTROL_BLOCK_OCTETS,
  readControlBlock,
  readSetpoint,
  SETPOINT_OCTETS,
  type ControlBlock,
  type Setpoint,
  type SetpointVariation,
} from '../control.ts';
import type { OutstationSettings } from '../settings.ts';
import { FunctionCode, Iin, type Fragment } from '../wire/application.ts';
import { parseHeaders, Qualifier, type HeaderProblem, type ObjectHeader } from '../wire/header.ts';
import { textOf } from '../wire/text.ts';
import { GROUPS, type PointTable } from './pointtable.ts';

export type ControlPhase = 'select' | 'operate' | 'direct';

export interface ControlItem {
  index: number;
  block: ControlBlock;
  /** An analog output, instead of the block. */
  setpoint?: Setpoint;
  /** An octet string that is to say so, instead of the block. */
  text?: string;
}

interface PendingControl {
  token: number;
  sequence: number;
  phase: ControlPhase;
  /** The objects of the request, to be returned with the statuses; null: a write, which returns none. */
  objects: Uint8Array | null;
  statusAt: number[];
  statuses: (number | null)[];
  answer: boolean;
}

export interface Selection {
  objects: Uint8Array;
  sequence: number;
  until: Instant;
}

/** What comes of a request to operate: refused by indications, handed out, or decided here already. */
export type Asked =
  | { what: 'refused'; iin: number; problem: HeaderProblem | null; answer: boolean }
  | { what: 'handedOut'; token: number; phase: ControlPhase; items: ControlItem[] }
  | { what: 'decided'; token: number };

/** An answer to a request to operate: its objects with the status of each; to a write, indications alone. */
export interface ControlAnswer {
  sequence: number;
  iin: number;
  objects: Uint8Array;
}

/**
 * The controls of an outstation. Each is decided by the owner: select, operate and direct operate are handed out, and the
 * answer is made when the owner says how each ended. An operate needs a select with the same octets, the sequence number
 * before it, and no other request in between, within the select time-out.
 */
export class OutstationControls {
  private pending: PendingControl | null = null;
  private selection: Selection | null = null;
  private token = 0;

  constructor(
    private readonly settings: Pick<OutstationSettings, 'maxControls' | 'selectTimeoutMs'>,
    private readonly points: PointTable,
  ) {}

  get isPending(): boolean {
    return this.pending !== null;
  }

  forget(): void {
    this.pending = null;
    this.selection = null;
  }

  /** Another request has come: what is still awaited will not be answered. Returns the select before it. */
  newRequest(): Selection | null {
    const { selection } = this;
    this.forget();
    return selection;
  }

  ask(fragment: Fragment, selection: Selection | null, now: Instant): Asked {
    switch (fragment.functionCode) {
      case FunctionCode.select:
        return this.begin(fragment, 'select');
      case FunctionCode.operate: {
        const objects = fragment.octets.subarray(fragment.objectsAt);
        const matches =
          selection !== null &&
          sameBytes(selection.objects, objects) &&
          fragment.control.sequence === ((selection.sequence + 1) & 0x0f);
        if (matches && now <= selection.until) return this.begin(fragment, 'operate');
        return this.begin(fragment, 'operate', matches ? ControlStatus.timeout : ControlStatus.noSelect);
      }
      default:
        return this.begin(fragment, 'direct');
    }
  }

  /** With `refusal` all items get that status and nothing is handed out. */
  private begin(fragment: Fragment, phase: ControlPhase, refusal?: number): Asked {
    const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
    const answer = fragment.functionCode !== FunctionCode.directOperateNoAck;
    const iin = misfitOf(headers);
    if (iin !== 0 || problem !== null) return { what: 'refused', iin, problem, answer };
    const items = headers.flatMap((header) =>
      header.items.map((item) => ({ ...item, variation: setpointVariation(header) })),
    );
    const statuses = items.map(({ index, variation, at }, i): number | null => {
      if (refusal !== undefined) return refusal;
      if (i >= this.settings.maxControls) return ControlStatus.tooManyObjects;
      const kind = variation === null ? 'output' : 'setpoint';
      if (this.points.get(kind, index) === undefined) return ControlStatus.notSupported;
      // A block that is to be carried out no time is no operation (IEEE 1815, A.8.1; from memory).
      const isNothing = variation === null && readControlBlock(fragment.octets, at).count === 0;
      return isNothing ? ControlStatus.success : null;
    });
    const token = ++this.token;
    this.pending = {
      token,
      sequence: fragment.control.sequence,
      phase,
      objects: fragment.octets.slice(fragment.objectsAt),
      statusAt: items.map(
        ({ at, variation }) =>
          at - fragment.objectsAt + (variation === null ? CONTROL_BLOCK_OCTETS : SETPOINT_OCTETS[variation]) - 1,
      ),
      statuses,
      answer,
    };
    const open = items.filter((_, i) => statuses[i] === null);
    if (open.length === 0) return { what: 'decided', token };
    const handedOut = open.map(({ index, at, variation }) =>
      variation === null
        ? { index, block: readControlBlock(fragment.octets, at) }
        : { index, block: NO_BLOCK, setpoint: readSetpoint(fragment.octets, at, variation) },
    );
    return { what: 'handedOut', token, phase, items: handedOut };
  }

  /** Octet strings that are written are handed out like controls; null: that is not what the request writes. */
  write(fragment: Fragment): Asked | null {
    const { headers, problem } = parseHeaders(fragment.octets, fragment.objectsAt, true);
    if (headers.length === 0 || headers.some(({ group }) => group !== GROUPS.text.static)) return null;
    const items = headers.flatMap(({ variation, items: own }) => own.map((item) => ({ ...item, octets: variation })));
    const known = items.every(({ index }) => this.points.get('text', index) !== undefined);
    if (problem !== null || !known || items.length > this.settings.maxControls)
      return { what: 'refused', iin: Iin.parameterError, problem, answer: true };
    const token = ++this.token;
    const { sequence } = fragment.control;
    const statuses = items.map(() => null);
    this.pending = { token, sequence, phase: 'direct', objects: null, statusAt: [], statuses, answer: true };
    const handedOut = items.map(({ index, at, octets }) => ({
      ...{ index, block: NO_BLOCK },
      text: textOf(fragment.octets.subarray(at, at + octets)),
    }));
    return { what: 'handedOut', token, phase: 'direct', items: handedOut };
  }

  /** The results are the statuses of the items handed out, in order; null: nobody waits for the answer any more. */
  result(token: number, results: readonly number[], now: Instant): ControlAnswer | null {
    const { pending } = this;
    if (pending === null || pending.token !== token) return null;
    this.pending = null;
    let next = 0;
    const statuses = pending.statuses.map((status) => status ?? results[next++] ?? ControlStatus.undefined);
    const { phase, sequence } = pending;
    const isDone = statuses.every((status) => status === ControlStatus.success);
    if (pending.objects === null) return { sequence, iin: isDone ? 0 : Iin.parameterError, objects: NO_OBJECTS };
    const objects = pending.objects.slice();
    statuses.forEach((status, i) => (objects[pending.statusAt[i]] = status & 0x7f));
    if (phase === 'select' && isDone)
      this.selection = { objects: pending.objects, sequence, until: now + this.settings.selectTimeoutMs };
    return pending.answer ? { sequence, iin: 0, objects } : null;
  }
}

/** What is wrong with the objects of a request to operate, as indications. */
function misfitOf(headers: readonly ObjectHeader[]): number {
  if (headers.some(({ type }) => type?.what !== 'control' && type?.what !== 'setpoint')) return Iin.objectUnknown;
  const indexed = ({ qualifier }: ObjectHeader): boolean =>
    qualifier === Qualifier.count8Index8 || qualifier === Qualifier.count16Index16;
  return headers.length === 0 || !headers.every(indexed) ? Iin.parameterError : 0;
}

const NO_OBJECTS = new Uint8Array(0);
const NO_BLOCK: ControlBlock = { code: 0, count: 0, onMs: 0, offMs: 0, status: 0 };
const setpointVariation = ({ type, variation }: ObjectHeader): SetpointVariation | null =>
  type?.what === 'setpoint' ? (([1, 2, 3, 4] as const).find((one) => one === variation) ?? 1) : null;
