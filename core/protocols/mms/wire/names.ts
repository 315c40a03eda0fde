import { characters, charactersOf, childrenOf, constructed, context, Malformed, Universal } from './ber.ts';
import type { Element, Node } from './ber.ts';

/** Names of objects (ISO 9506-2, 7.5.2: ObjectName). */

/** The name of an object: in the whole device, in a domain of it, or of this association alone. */
export type ObjectName =
  { scope: 'vmd' | 'association'; item: string } | { scope: 'domain'; domain: string; item: string };

export const identifier = (text: string): Node => characters(Universal.visibleString, text);

export function nameNode(name: ObjectName): Node {
  switch (name.scope) {
    case 'vmd':
      return characters(context(0), name.item);
    case 'domain':
      return constructed(context(1), identifier(name.domain), identifier(name.item));
    case 'association':
      return characters(context(2), name.item);
    default:
      return name satisfies never;
  }
}

export function nameOf(octets: Uint8Array, element: Element | undefined): ObjectName {
  switch (element?.tag) {
    case context(0):
      return { scope: 'vmd', item: charactersOf(octets, element) };
    case context(1): {
      const [domain, item] = childrenOf(element);
      if (domain === undefined || item === undefined) throw new Malformed('a name in a domain without its two parts');
      return { scope: 'domain', domain: charactersOf(octets, domain), item: charactersOf(octets, item) };
    }
    case context(2):
      return { scope: 'association', item: charactersOf(octets, element) };
    default:
      throw new Malformed('no name of an object');
  }
}

export const nameWords = (name: ObjectName): string =>
  name.scope === 'domain' ? `${name.domain}/${name.item}` : name.scope === 'vmd' ? name.item : `@${name.item}`;
