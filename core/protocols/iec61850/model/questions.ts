import type { Instant } from '../../../session/index.ts';
import type { MmsClient } from '../../mms/client.ts';
import type { TypeOf } from '../../mms/wire/data.ts';
import type { ObjectClass } from '../../mms/wire/services.ts';
import { putTogether } from './model.ts';

/** Questions about a model that are under way, and what went wrong with them. */
export class Questions {
  readonly problems: string[] = [];
  /** Questions without an answer yet. */
  open = 0;

  constructor(
    private readonly client: MmsClient,
    /** After each answer, once it is dealt with. */
    private readonly answered: (now: Instant) => void,
  ) {}

  /** All names of a class; where they cannot be had, that is a problem and `found` is not called. */
  names(
    of: ObjectClass,
    domain: string | null,
    now: Instant,
    found: (names: readonly string[], now: Instant) => void,
  ): void {
    this.open++;
    allNames(this.client, of, domain, now, (names, problem, at) => {
      if (problem === null) found(names, at);
      else this.problems.push(`${domain ?? 'the server'}: ${problem}`);
      this.open--;
      this.answered(at);
    });
  }

  /**
   * The type of a variable. Where it is refused, or not answered, since it does not fit a message, the types of its parts are
   * asked for and put together; null: it cannot be had.
   */
  typeOf(domain: string, item: string, now: Instant, found: (of: TypeOf | null, now: Instant) => void): void {
    this.ask('attributes', { name: { scope: 'domain', domain, item } }, now, (answer, at) => {
      if (answer.ok) return found(answer.response.of, at);
      const refused = (later: Instant): void => {
        this.problems.push(`${domain}/${item}: ${answer.words}`);
        found(null, later);
      };
      // What is not there has no parts either.
      const { error } = answer;
      if (!this.client.isOpen || (error?.class === ACCESS && error.code === NON_EXISTENT)) return refused(at);
      this.partsOf(domain, item, at, (names, later) => {
        if (names.length === 0) return refused(later);
        const parts: { name: string; of: TypeOf }[] = [];
        let open = names.length;
        for (const name of names)
          this.typeOf(domain, `${item}$${name}`, later, (of, last) => {
            if (of !== null) parts.push({ name, of });
            if (--open === 0) found(parts.length === 0 ? null : putTogether(parts), last);
          });
      });
    });
  }

  /** Names of what is right within a variable. */
  private partsOf(domain: string, item: string, now: Instant, found: (names: string[], now: Instant) => void): void {
    const inside = (all: readonly string[]): string[] => {
      const begins = `${item}$`;
      const deeper = all.filter((name) => name.startsWith(begins)).map((name) => name.slice(begins.length));
      return [...new Set(deeper.map((name) => name.split('$')[0]))];
    };
    const known = this.named.get(domain);
    if (known !== undefined) return found(inside(known), now);
    this.names('variable', domain, now, (all, at) => {
      this.named.set(domain, all);
      found(inside(all), at);
    });
  }
  private readonly named = new Map<string, readonly string[]>();

  ask<Name extends 'attributes' | 'listAttributes' | 'read'>(
    service: Name,
    request: Parameters<typeof this.client.ask<Name>>[1],
    now: Instant,
    answered: (...args: Parameters<Parameters<typeof this.client.ask<Name>>[2]>) => void,
  ): void {
    this.open++;
    this.client.ask(
      service,
      request,
      (...args) => {
        answered(...args);
        this.open--;
        this.answered(args[1]);
      },
      now,
    );
  }
}

/** The error that says that something is not there (ISO 9506-2, 7.4.3: class access, object-non-existent). */
const ACCESS = 7;
const NON_EXISTENT = 2;

/** Names of one logical device, at most. */
const MAX_NAMES = 500_000;

/** All names of a class, in as many parts as it takes; or why they cannot be had. */
function allNames(
  client: MmsClient,
  of: ObjectClass,
  domain: string | null,
  now: Instant,
  done: (names: readonly string[], problem: string | null, now: Instant) => void,
  before: readonly string[] = [],
): void {
  const after = before.at(-1) ?? null;
  client.ask(
    'nameList',
    { class: of, domain, after },
    (answer, at) => {
      if (!answer.ok) return done([], answer.words, at);
      const { names, more } = answer.response;
      const all = [...before, ...names];
      // A server that says that more follows and brings nothing would be asked for ever.
      if (more && names.length > 0 && all.length <= MAX_NAMES) allNames(client, of, domain, at, done, all);
      else done(all, null, at);
    },
    now,
  );
}
