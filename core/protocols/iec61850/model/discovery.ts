import type { Instant } from '../../../session/index.ts';
import type { MmsClient } from '../../mms/client.ts';
import type { Variable } from '../../mms/wire/services.ts';
import { nodeOf, type LogicalDevice, type Model } from './model.ts';
import { Questions } from './questions.ts';
import { fromMms, type Reference } from './reference.ts';

/**
 * Finds out what a server has: its logical devices, the type of each node, which tells all that is in it, and its data
 * sets. As many questions are under way as were agreed on. A node that the server does not tell of is left out, and
 * said.
 */
export class Discovery {
  private readonly model: Model = { devices: [] };
  private readonly questions: Questions;
  private ended = false;

  constructor(
    client: MmsClient,
    /** Null: nothing could be found out; `problems` says why. */
    private readonly done: (model: Model | null, problems: readonly string[], now: Instant) => void,
  ) {
    this.questions = new Questions(client, (now) => this.considerEnd(now));
  }

  start(now: Instant): void {
    this.questions.names('domain', null, now, (devices, at) => {
      if (devices.length === 0) this.questions.problems.push('it has no logical device');
      for (const name of devices) {
        const device: LogicalDevice = { name, nodes: [] };
        this.model.devices.push(device);
        this.nodes(device, at);
      }
    });
  }

  private nodes(device: LogicalDevice, now: Instant): void {
    this.questions.names('variable', device.name, now, (names, at) => {
      // Names without a constraint are the nodes themselves.
      const nodes = names.filter((name) => !name.includes('$'));
      const order = new Map(nodes.map((name, place) => [name, place]));
      for (const item of nodes)
        this.questions.typeOf(device.name, item, at, (of) => {
          if (of !== null) device.nodes.push(nodeOf(item, of));
          device.nodes.sort((a, b) => (order.get(a.name) ?? 0) - (order.get(b.name) ?? 0));
        });
    });
    this.questions.names('variableList', device.name, now, (lists, at) => {
      for (const item of lists) this.dataSet(device, item, at);
    });
  }

  private dataSet(device: LogicalDevice, item: string, now: Instant): void {
    const [node, name = item] = item.split('$');
    this.questions.ask('listAttributes', { name: { scope: 'domain', domain: device.name, item } }, now, (answer) => {
      if (!answer.ok) {
        this.questions.problems.push(`${device.name}/${item}: ${answer.words}`);
        return;
      }
      const members = answer.response.names.flatMap((one) => referenceOfVariable(one) ?? []);
      if (members.length < answer.response.names.length)
        this.questions.problems.push(`${device.name}/${item}: some of its members are no object references`);
      this.later(() => device.nodes.find((one) => one.name === node)?.dataSets.push({ name, members }));
    });
  }

  /** What can only be put in its place when all nodes are there. */
  private readonly put: (() => void)[] = [];
  private later(work: () => void): void {
    this.put.push(work);
  }

  private considerEnd(now: Instant): void {
    if (this.questions.open > 0 || this.ended) return;
    this.ended = true;
    for (const work of this.put) work();
    const isThere = this.model.devices.some(({ nodes }) => nodes.length > 0);
    this.done(isThere ? this.model : null, this.questions.problems, now);
  }
}

/** What a member of a data set is; null: no object reference. */
export function referenceOfVariable({ name, part = [] }: Variable): Reference | null {
  if (name.scope !== 'domain') return null;
  const read = fromMms(name.domain, name.item);
  if (!read.ok) return null;
  const [index, ...rest] = part;
  if (index === undefined) return read.value;
  const { path } = read.value;
  if (typeof index !== 'number') return { ...read.value, path: [...path, index, ...rest.map(String)] };
  return { ...read.value, path: [...path.slice(0, -1), `${path.at(-1)}(${index})`, ...rest.map(String)] };
}
