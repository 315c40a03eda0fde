import { AccessError, type AccessResult, type Data, type TypeOf } from '../../mms/wire/data.ts';
import type { Variable } from '../../mms/wire/services.ts';
import type { Reference } from '../model/reference.ts';

/** A place in the model with its value, or with what is in it. */
export interface Cell {
  of: TypeOf;
  /** Of what is nothing but a value. */
  data: Data;
  /** Of a structure, in their order. */
  parts: ReadonlyMap<string, Cell> | null;
  /** Of an array. */
  elements: readonly Cell[] | null;
}

/** What a value is before anybody has said so. */
export function blank(of: TypeOf): Data {
  switch (of.type) {
    case 'structure':
      return { type: 'structure', items: of.components.map((one) => blank(one.of)) };
    case 'array':
      return { type: 'array', items: Array.from({ length: of.count }, () => blank(of.element)) };
    case 'boolean':
      return { type: 'boolean', value: false };
    case 'bits':
      return { type: 'bits', bits: new Array<boolean>(Math.abs(of.size)).fill(false) };
    case 'integer':
    case 'unsigned':
      return { type: of.type, value: 0 };
    case 'float':
      return { type: 'float', value: 0, width: of.width === 64 ? 64 : 32 };
    case 'octets':
      return { type: 'octets', octets: new Uint8Array(Math.max(0, of.size)) };
    case 'text':
    case 'wideText':
      return { type: 'text', text: '', wide: of.type === 'wideText' };
    case 'binaryTime':
      return { type: 'binaryTime', octets: new Uint8Array(of.days ? 6 : 4) };
    case 'utcTime':
      return { type: 'utcTime', octets: new Uint8Array(8) };
    case 'name':
      return { type: 'name', identifier: '0.0' };
    default:
      return of satisfies never;
  }
}

function cellOf(of: TypeOf): Cell {
  const parts =
    of.type === 'structure' ? new Map(of.components.map((one) => [one.name, cellOf(one.of)] as const)) : null;
  const elements = of.type === 'array' ? Array.from({ length: of.count }, () => cellOf(of.element)) : null;
  // Of what has parts, its own value is never asked for.
  return { of, data: parts === null && elements === null ? blank(of) : NOTHING, parts, elements };
}
const NOTHING: Data = { type: 'structure', items: [] };

export function valueOf(cell: Cell): Data {
  if (cell.parts !== null) return { type: 'structure', items: [...cell.parts.values()].map(valueOf) };
  return cell.elements === null ? cell.data : { type: 'array', items: cell.elements.map(valueOf) };
}

/** Sets a value and all that is in it; what does not fit its type is left as it is. Returns whether something changed. */
export function setCell(cell: Cell, data: Data): boolean {
  const cells = cell.parts !== null ? [...cell.parts.values()] : cell.elements;
  if (cells !== null) {
    if ((data.type !== 'structure' && data.type !== 'array') || data.items.length !== cells.length) return false;
    let changed = false;
    cells.forEach((one, at) => (changed = setCell(one, data.items[at]) || changed));
    return changed;
  }
  if (data.type !== cell.data.type || sameData(cell.data, data)) return false;
  cell.data = data;
  return true;
}

export function sameData(a: Data, b: Data): boolean {
  switch (a.type) {
    case 'array':
    case 'structure':
      return (
        a.type === b.type && a.items.length === b.items.length && a.items.every((one, at) => sameData(one, b.items[at]))
      );
    case 'boolean':
    case 'integer':
    case 'unsigned':
      return a.type === b.type && a.value === b.value;
    case 'float':
      return b.type === 'float' && Object.is(a.value, b.value);
    case 'bits':
      return b.type === 'bits' && a.bits.length === b.bits.length && a.bits.every((bit, at) => bit === b.bits[at]);
    case 'text':
      return b.type === 'text' && a.text === b.text;
    case 'octets':
    case 'binaryTime':
    case 'utcTime':
      return (
        (b.type === 'octets' || b.type === 'binaryTime' || b.type === 'utcTime') &&
        a.octets.length === b.octets.length &&
        a.octets.every((octet, at) => octet === b.octets[at])
      );
    case 'name':
      return b.type === 'name' && a.identifier === b.identifier;
    default:
      return a satisfies never;
  }
}

/** A model's values: logical devices, nodes by their names, and what is in them by functional constraint. */
export class Tree {
  private readonly devices = new Map<string, Map<string, Cell>>();
  private names_ = new Map<string, readonly string[]>();

  /** `nodes`: the type of each, a structure of its functional constraints. */
  constructor(devices: readonly { name: string; nodes: readonly { name: string; of: TypeOf }[] }[]) {
    for (const { name, nodes } of devices)
      this.devices.set(name, new Map(nodes.map((node) => [node.name, cellOf(node.of)] as const)));
  }

  nodesOf(device: string): Iterable<[name: string, cell: Cell]> {
    return this.devices.get(device) ?? [];
  }

  get deviceNames(): string[] {
    return [...this.devices.keys()].sort(byCode);
  }

  /** All names of a device, as MMS has them, in the order of their characters; null: there is no such device. */
  names(device: string): readonly string[] | null {
    const nodes = this.devices.get(device);
    if (nodes === undefined) return null;
    const known = this.names_.get(device);
    if (known !== undefined) return known;
    const names: string[] = [];
    const walk = (name: string, cell: Cell): void => {
      names.push(name);
      if (cell.parts !== null) for (const [part, inside] of cell.parts) walk(`${name}$${part}`, inside);
    };
    for (const [name, cell] of nodes) walk(name, cell);
    names.sort(byCode);
    this.names_.set(device, names);
    return names;
  }

  /** The place of that name of MMS; null: there is none. */
  at(device: string, item: string): Cell | null {
    const [node, ...path] = item.split('$');
    let cell = this.devices.get(device)?.get(node);
    for (const part of path) cell = cell?.parts?.get(part);
    return cell ?? null;
  }

  atReference({ device, node, fc, path }: Reference): Cell | null {
    return this.within(this.devices.get(device)?.get(node) ?? null, [fc, ...path]);
  }

  /** A place by components and elements: `phsHar(3)` or a number is an element. */
  within(from: Cell | null, steps: readonly (string | number)[]): Cell | null {
    let cell: Cell | null | undefined = from;
    for (const step of steps) {
      if (typeof step === 'number') {
        cell = cell?.elements?.[step];
        continue;
      }
      const [, name, index] = /^([^(]*)(?:\((\d+)\))?$/.exec(step) ?? ['', step];
      cell = cell?.parts?.get(name);
      if (index !== undefined) cell = cell?.elements?.[Number(index)];
    }
    return cell ?? null;
  }

  read({ name, part = [] }: Variable): AccessResult {
    const cell = name.scope === 'domain' ? this.within(this.at(name.domain, name.item), part) : null;
    return cell === null ? { type: 'failure', code: AccessError.nonExistent } : valueOf(cell);
  }

  set(reference: Reference, data: Data): boolean {
    const cell = this.atReference(reference);
    return cell !== null && setCell(cell, data);
  }
}

const byCode = (a: string, b: string): number => (a < b ? -1 : a > b ? 1 : 0);
