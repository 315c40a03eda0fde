import type { Instant, Result } from '../../session/index.ts';
import type { Answer, MmsClient } from './client.ts';
import type { ObjectClass, ServiceName, Services } from './wire/services.ts';

/*
 * Requests one after the other, each made from the answers before it, written down as a generator: `yield*` of `ask`
 * gives the answer, of `demand` what it brought; a refusal of what was demanded ends the whole.
 */

interface Step {
  service: ServiceName;
  request: Services[ServiceName]['request'];
}
export type Dialogue<Value> = Generator<Step, Value, Answer<ServiceName>>;

/** Why a dialogue came to nothing. */
export class Refusal extends Error {}

export function* ask<Name extends ServiceName>(
  service: Name,
  request: Services[Name]['request'],
): Dialogue<Answer<Name>> {
  return (yield { service, request }) as Answer<Name>;
}

/** `what`: what it is about, in front of the words of a refusal. */
export function* demand<Name extends ServiceName>(
  service: Name,
  request: Services[Name]['request'],
  what: string,
): Dialogue<Services[Name]['response']> {
  const answer = yield* ask(service, request);
  if (!answer.ok) throw new Refusal(`${what}: ${answer.words}`);
  return answer.response;
}

/** Names of a class at most; whoever has more is asked no further. */
const MOST_NAMES = 500_000;

/** All names of a class, in as many parts as it takes; null: they are not told. */
export function* allNames(of: ObjectClass, domain: string | null): Dialogue<string[] | null> {
  const all: string[] = [];
  for (let more = true; more && all.length < MOST_NAMES;) {
    const answer = yield* ask('nameList', { class: of, domain, after: all.at(-1) ?? null });
    if (!answer.ok) return null;
    all.push(...answer.response.names);
    more = answer.response.more && answer.response.names.length > 0;
  }
  return all;
}

export function hold<Value>(
  client: MmsClient,
  dialogue: Dialogue<Value>,
  done: (outcome: Result<Value, string>, now: Instant) => void,
  now: Instant,
): void {
  const proceed = (answer: Answer<ServiceName> | null, at: Instant): void => {
    let next: IteratorResult<Step, Value>;
    try {
      next = answer === null ? dialogue.next() : dialogue.next(answer);
    } catch (error) {
      if (!(error instanceof Refusal)) throw error;
      done({ ok: false, problem: error.message }, at);
      return;
    }
    if (next.done === true) done({ ok: true, value: next.value }, at);
    else client.ask(next.value.service, next.value.request as never, proceed, at);
  };
  proceed(null, now);
}
