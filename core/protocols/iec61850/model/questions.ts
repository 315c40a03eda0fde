import type { Instant } from '../../../session/index.ts';
import type { MmsClient } from '../../mms/client.ts';
import type { ObjectClass } from '../../mms/wire/services.ts';

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
