import { SaxesParser, type SaxesTagPlain } from 'saxes';

/*
 * Changes the address of a device in a file of the substation configuration language, and nothing else: every other
 * character stays as it is, what is private and what is not known here with it.
 */

export interface Address {
  ied: string;
  accessPoint: string;
  /** By their types: IP, OSI-TSEL; what is empty is left as it is. */
  parameters: ReadonlyMap<string, string>;
}

interface Edit {
  from: number;
  to: number;
  text: string;
}

/** Where the address stands, by places in the text. */
interface Found {
  parameters: Map<string, { from: number; to: number }>;
  /** Where another parameter goes: before the end of the address. */
  addressEnd: number | null;
  /** Before the end of the first subnetwork, and before the first device. */
  subNetworkEnd: number | null;
  firstIed: number | null;
}

const escaped = (text: string): string =>
  text.replace(/[&<>"]/g, (one) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' })[one] ?? one);
const localName = (name: string): string => name.slice(name.indexOf(':') + 1);

function find(text: string, { ied, accessPoint }: Address): Found {
  const found: Found = { parameters: new Map(), addressEnd: null, subNetworkEnd: null, firstIed: null };
  const parser = new SaxesParser({ position: true });
  const stack: string[] = [];
  let privately = 0;
  let isOwn = false;
  let open: { type: string; from: number } | null = null;
  parser.on('error', (error) => {
    throw error;
  });
  parser.on('opentag', (given) => {
    const { name: full, attributes, isSelfClosing } = given as SaxesTagPlain;
    const name = localName(full);
    stack.push(name);
    if (name === 'Private') privately++;
    if (privately > 0) return;
    if (name === 'ConnectedAP') isOwn = attributes.iedName === ied && attributes.apName === accessPoint;
    if (name === 'IED' && found.firstIed === null) found.firstIed = text.lastIndexOf('<', parser.position - 1);
    if (name === 'P' && isOwn && stack.at(-2) === 'Address' && !isSelfClosing)
      open = { type: attributes.type, from: parser.position };
  });
  parser.on('closetag', (given) => {
    const { isSelfClosing } = given as SaxesTagPlain;
    const name = stack.pop();
    if (name === 'Private') privately--;
    if (privately > 0 || isSelfClosing) return;
    const at = text.lastIndexOf('</', parser.position - 1);
    if (name === 'P' && open !== null) {
      found.parameters.set(open.type, { from: open.from, to: at });
      open = null;
    }
    if (name === 'Address' && isOwn) found.addressEnd = at;
    if (name === 'ConnectedAP') isOwn = false;
    if (name === 'SubNetwork') found.subNetworkEnd ??= at;
  });
  parser.write(text).close();
  return found;
}

/** Spaces and tabs in front of a place, if nothing else is on its line. */
const indentAt = (text: string, at: number): string => /(?:^|\n)([ \t]*)$/.exec(text.slice(0, at))?.[1] ?? '';

/** The file with that address; a text that is no XML is given back as it is. */
export function withAddress(text: string, address: Address): string {
  let found: Found;
  try {
    found = find(text, address);
  } catch {
    return text;
  }
  const given = [...address.parameters].filter(([, value]) => value !== '');
  const written = ([type, value]: readonly [string, string]): string => `<P type="${type}">${escaped(value)}</P>`;
  const edits: Edit[] = [];
  const { parameters, addressEnd, subNetworkEnd, firstIed } = found;
  for (const [type, value] of given) {
    const place = parameters.get(type);
    if (place !== undefined && text.slice(place.from, place.to).trim() !== escaped(value))
      edits.push({ ...place, text: escaped(value) });
  }
  const missing = given.filter(([type]) => !parameters.has(type));
  /** What goes in front of a closing tag, in lines of its own. */
  const before = (at: number, ...lines: string[]): void => {
    const indent = indentAt(text, at);
    const inside = lines.map((line) => `  ${line}\n${indent}`).join('');
    edits.push({ from: at, to: at, text: inside });
  };
  const whole = [
    `<ConnectedAP iedName="${escaped(address.ied)}" apName="${escaped(address.accessPoint)}">`,
    `  <Address>${given.map(written).join('')}</Address>`,
    '</ConnectedAP>',
  ];
  if (addressEnd !== null) {
    if (missing.length > 0) before(addressEnd, ...missing.map(written));
  } else if (subNetworkEnd !== null) before(subNetworkEnd, ...whole);
  else if (firstIed !== null) {
    const indent = indentAt(text, firstIed);
    const lines = ['<Communication>', '  <SubNetwork name="station" type="8-MMS">'];
    const all = [...lines, ...whole.map((line) => `    ${line}`), '  </SubNetwork>', '</Communication>'];
    edits.push({ from: firstIed, to: firstIed, text: all.map((line) => `${line}\n${indent}`).join('') });
  }
  return edits
    .sort((one, other) => other.from - one.from)
    .reduce((so, { from, to, text: put }) => `${so.slice(0, from)}${put}${so.slice(to)}`, text);
}
