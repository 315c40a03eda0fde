import { childrenOf, context, find, parseBer, reading, type Element } from './ber.ts';

/** Where a value's own octets stand in a message; null: it is not there. */
export interface Place {
  at: number;
  end: number;
}

/**
 * The place of one of the values that a report, or the response to a read, brings: `steps` are its number among them,
 * and then the parts that lead to it.
 */
export function placeOf(octets: Uint8Array, steps: readonly number[]): Place | null {
  const found = reading(() => {
    let element: Element | undefined = valuesOf(parseBer(octets));
    for (const step of steps) element = element && childrenOf(element)[step];
    return element;
  });
  if (!found.ok || found.value === undefined) return null;
  return { at: found.value.contentAt, end: found.value.contentEnd };
}

function valuesOf(message: Element): Element | undefined {
  // A report: unconfirmed, its specification and its values. A response to a read: its number, and the values in it.
  if (message.tag === context(3)) return childrenOf(childrenOf(message)[0] ?? message)[1];
  const read = message.tag === context(1) ? find(message, context(4)) : undefined;
  return read && find(read, context(1));
}
