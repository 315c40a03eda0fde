import { deviceOf, wayOut } from '@halvix/core/protocols';
import { draft, type Held } from './draft.svelte.ts';
import type { LinkObject } from './devices.ts';

/*
 * The links of the draft, by who is on them. Links to devices and links to centres are not the same ones, but where a centre
 * that is a device too has one conversation with us.
 */

export interface OnLink {
  kind: 'device' | 'outbound';
  code: string;
}

/** Who is on a link. */
export const usersOf = (link: string): OnLink[] =>
  (['device', 'outbound'] as const).flatMap((kind) =>
    draft
      .of(kind)
      .filter(({ document }) => document.link === link)
      .map(({ document }) => ({ kind, code: document.code })),
  );

/** Links that one of such a kind may be on: those that nobody of the other kind is on, or that both may share. */
export const linksOf = (kind: OnLink['kind']): Held<LinkObject>[] =>
  draft
    .of('link')
    .filter(
      ({ document }) =>
        wayOut(document.protocol)?.shares !== undefined || usersOf(document.code).every((user) => user.kind === kind),
    );

/** Devices in whose conversation whoever joins a link of theirs would be: `in the association with CMR`; null: none. */
export function sharingWords({ code, protocol, type }: LinkObject): string | null {
  const shares = wayOut(protocol)?.shares;
  const devices = usersOf(code)
    .filter(({ kind }) => kind === 'device')
    .map((user) => user.code);
  const isTheirs = devices.length > 0 && deviceOf(protocol).links.includes(type);
  return shares !== undefined && isTheirs ? `in the ${shares} with ${devices.join(', ')}` : null;
}

/** The code of a link of one's own: the same code, or nearly, where another link has it. */
export function freeLink(code: string): string {
  const taken = (next: string): boolean => draft.of('link').some(({ document }) => document.code === next);
  for (let n = 1; ; n++) {
    const tail = n === 1 ? '' : `-${n}`;
    const next = code.slice(0, 24 - tail.length) + tail;
    if (!taken(next)) return next;
  }
}
