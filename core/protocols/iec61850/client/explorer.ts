import type { Instant } from '../../../session/index.ts';
import type { MmsClient } from '../../mms/client.ts';
import type { TypeOf } from '../../mms/wire/data.ts';
import { referenceOfVariable } from '../model/discovery.ts';
import { typeIn } from '../model/model.ts';
import { Questions } from '../model/questions.ts';
import type { Constraint, Reference } from '../model/reference.ts';
import type { Block, DataSet } from './blocks.ts';
import { madeName } from './madeset.ts';

/*
 * What has to be known of a device before its points can be had: of each logical device in which a point is, the names
 * of its report control blocks, the type of each node that is needed, which data set each block has, and what is in it.
 *
 * step     what is asked                                          when it is refused
 * -------  -----------------------------------------------------  --------------------------------------------
 * names    the names of a logical device                          none of its points can be had
 * types    the type of each node in question; of its parts,       none of that node's points can be had
 *          where it does not fit a message
 * blocks   `DatSet` of each report control block, some at once    asked in parts; by itself, it is left alone
 * sets     the members of each data set                           its blocks are left alone
 */

export interface Explored {
  types: (device: string, node: string) => TypeOf | null;
  blocks: readonly Block[];
  /** Blocks without a data set, or with one that we have made. */
  spare: readonly Block[];
  sets: readonly DataSet[];
  /** What could not be found out, for people. */
  problems: readonly string[];
}

/** Blocks whose data sets are asked for in one request. */
const AT_ONCE = 20;
const BLOCK = /^([^$]+)\$(BR|RP)\$([^$]+)$/;
const NOTHING = (): void => {};
/** Of a member of a data set that is no object reference. */
const NOWHERE: Reference = { device: '', node: '', path: [], fc: 'ST' };

/** A report control block, by its name. */
interface Item {
  domain: string;
  item: string;
  node: string;
  fc: Constraint;
}

export class Explorer {
  private readonly types = new Map<string, TypeOf | null>();
  private readonly blocks: Block[] = [];
  private readonly spare: Block[] = [];
  private readonly sets = new Map<string, DataSet>();
  private readonly questions: Questions;
  private phase: (now: Instant) => void = NOTHING;

  constructor(
    client: MmsClient,
    private readonly done: (explored: Explored, now: Instant) => void,
  ) {
    this.questions = new Questions(client, (now) => this.proceed(now));
  }

  /** `nodes`: those in question, as `HLMF1/XCBR1`; `withReports`: whether reports are of interest. */
  start(nodes: ReadonlySet<string>, withReports: boolean, now: Instant): void {
    const devices = new Set([...nodes].map((name) => name.slice(0, name.indexOf('/'))));
    const needed = new Set(nodes);
    const items: Item[] = [];
    this.then((at) => this.typesOf(needed, items, at));
    this.questions.open++;
    if (withReports)
      for (const domain of devices)
        this.questions.names('variable', domain, now, (names) => {
          for (const item of names) {
            const [, node, fc] = BLOCK.exec(item) ?? [];
            if (node === undefined) continue;
            items.push({ domain, item, node, fc: fc as Constraint });
            needed.add(`${domain}/${node}`);
          }
        });
    this.questions.open--;
    this.proceed(now);
  }

  private typesOf(needed: ReadonlySet<string>, items: readonly Item[], now: Instant): void {
    this.then((at) => this.blocksOf(items, at));
    for (const name of needed) {
      const slash = name.indexOf('/');
      const [domain, item] = [name.slice(0, slash), name.slice(slash + 1)];
      this.questions.typeOf(domain, item, now, (of) => void this.types.set(name, of));
    }
  }

  private blocksOf(items: readonly Item[], now: Instant): void {
    this.then((at) => this.setsOf(at));
    for (let from = 0; from < items.length; from += AT_ONCE) this.someBlocks(items.slice(from, from + AT_ONCE), now);
  }

  /** Where they are refused together, or do not fit a message, in two parts. */
  private someBlocks(some: readonly Item[], now: Instant): void {
    const names = some.map(({ domain, item }) => ({
      name: { scope: 'domain' as const, domain, item: `${item}$DatSet` },
    }));
    this.questions.ask('read', { variables: { names } }, now, (answer, at) => {
      if (!answer.ok) {
        const middle = some.length >> 1;
        if (middle === 0 || answer.lost) this.questions.problems.push(`report control blocks: ${answer.words}`);
        else for (const half of [some.slice(0, middle), some.slice(middle)]) this.someBlocks(half, at);
        return;
      }
      some.forEach(({ domain, item, node, fc }, n) => {
        const set = answer.response.results[n];
        const type = this.types.get(`${domain}/${node}`);
        const of = type && typeIn(type, { path: [item.split('$')[2]], fc });
        if (set?.type !== 'text' || !of) return;
        const block = { domain, item, isBuffered: fc === 'BR', dataSet: set.text, of };
        const isSpare = set.text === '' || set.text === madeName(block);
        (isSpare ? this.spare : this.blocks).push(block);
      });
    });
  }

  private setsOf(now: Instant): void {
    this.then((at) => this.done(this.explored(), at));
    for (const name of new Set(this.blocks.map(({ dataSet }) => dataSet))) {
      const slash = name.indexOf('/');
      if (slash < 0) continue;
      const [domain, item] = [name.slice(0, slash), name.slice(slash + 1)];
      this.questions.ask('listAttributes', { name: { scope: 'domain', domain, item } }, now, (answer) => {
        if (!answer.ok) {
          this.questions.problems.push(`data set ${name}: ${answer.words}`);
          return;
        }
        const members = answer.response.names.map(referenceOfVariable);
        // A member that is none keeps its place: reports count them.
        this.sets.set(name, { name, members: members.map((one) => one ?? NOWHERE) });
      });
    }
  }

  private explored(): Explored {
    const { types, blocks, spare, sets, questions } = this;
    return {
      types: (device, node) => types.get(`${device}/${node}`) ?? null,
      ...{ blocks, spare, sets: [...sets.values()], problems: questions.problems },
    };
  }

  /** What comes once all that is asked now is answered. */
  private then(next: (now: Instant) => void): void {
    this.phase = next;
  }

  private proceed(now: Instant): void {
    while (this.questions.open === 0) {
      const { phase } = this;
      this.phase = NOTHING;
      if (phase === NOTHING) return;
      this.questions.open++;
      phase(now);
      this.questions.open--;
    }
  }
}
