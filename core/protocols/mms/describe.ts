import { accessErrorWords, type AccessResult, type Data } from './wire/data.ts';
import { errorWords, type Negotiated, type Pdu } from './wire/pdu.ts';
import { nameWords, type ObjectName } from './wire/names.ts';
import type { Variables } from './wire/services.ts';

/** Messages of MMS in words, a line each. */

const MOST_NAMED = 3;
/** The first few, and how many more there are. */
function some(words: readonly string[]): string {
  const more = words.length - MOST_NAMED;
  return more > 0 ? `${words.slice(0, MOST_NAMED).join(', ')} and ${more} more` : words.join(', ');
}
const plural = (count: number, one: string): string => `${count} ${one}${count === 1 ? '' : 's'}`;

export function dataWords(data: AccessResult): string {
  switch (data.type) {
    case 'failure':
      return accessErrorWords(data.code);
    case 'array':
    case 'structure':
      return `{${some(data.items.map(dataWords))}}`;
    case 'boolean':
      return String(data.value);
    case 'bits':
      return data.bits.map((bit) => (bit ? '1' : '0')).join('');
    case 'integer':
    case 'unsigned':
      return String(data.value);
    case 'float':
      return String(Number(data.value.toPrecision(data.width === 32 ? 7 : 15)));
    case 'octets':
    case 'binaryTime':
    case 'utcTime':
      return Array.from(data.octets, (octet) => octet.toString(16).padStart(2, '0')).join('');
    case 'text':
      return `“${data.text}”`;
    case 'name':
      return data.identifier;
    default:
      return data satisfies never;
  }
}

/** `name`: how an object is called, where its own protocol calls it otherwise. */
export function pduWords(pdu: Pdu, name: (object: ObjectName) => string = nameWords): string {
  const variables = (of: Variables): string =>
    of.list === undefined ? some(of.names.map((one) => name(one.name))) : `list ${name(of.list)}`;
  switch (pdu.type) {
    case 'request':
      return `${SERVICE_WORDS[pdu.service]}, request ${pdu.invoke}${requestWords(pdu, name, variables)}`;
    case 'response':
      return `${SERVICE_WORDS[pdu.service]}, response ${pdu.invoke}${responseWords(pdu)}`;
    case 'unknownRequest':
      return `service ${pdu.tag}, request ${pdu.invoke}`;
    case 'error':
      return `error to request ${pdu.invoke}: ${errorWords(pdu.error)}`;
    case 'report':
      return `report of ${variables(pdu.variables)}: ${plural(pdu.results.length, 'value')}`;
    case 'reject':
      return `reject${pdu.invoke === null ? '' : ` of request ${pdu.invoke}`} (${pdu.kind}.${pdu.code})`;
    case 'cancel':
      return `cancel request ${pdu.invoke}`;
    case 'cancelled':
      return `request ${pdu.invoke} cancelled`;
    case 'cancelError':
      return `request ${pdu.invoke} not cancelled: ${errorWords(pdu.error)}`;
    case 'initiate':
      return `initiate: ${agreementWords(pdu.agreement)}`;
    case 'initiated':
      return `initiated: ${agreementWords(pdu.agreement)}`;
    case 'initiateError':
      return `initiate refused: ${errorWords(pdu.error)}`;
    case 'conclude':
    case 'concluded':
      return pdu.type;
    case 'concludeError':
      return `conclude refused: ${errorWords(pdu.error)}`;
    default:
      return pdu satisfies never;
  }
}

const agreementWords = ({ size, calling, called, nesting }: Negotiated): string =>
  [
    size === null ? 'messages of any size' : `messages of ${size} octets`,
    `${calling} and ${called} requests at once`,
    ...(nesting === null ? [] : [`${nesting} levels`]),
  ].join(', ');

const SERVICE_WORDS: Record<(Pdu & { type: 'request' })['service'], string> = {
  status: 'status',
  nameList: 'names',
  identify: 'identify',
  read: 'read',
  write: 'write',
  attributes: 'type',
  defineList: 'define list',
  listAttributes: 'members of list',
  deleteList: 'delete list',
  obtainFile: 'obtain file',
  fileOpen: 'open file',
  fileRead: 'read file',
  fileClose: 'close file',
  fileDelete: 'delete file',
  fileDirectory: 'directory',
  readJournal: 'read journal',
  initializeJournal: 'empty journal',
  journalStatus: 'status of journal',
};

function requestWords(
  pdu: Pdu & { type: 'request' },
  name: (object: ObjectName) => string,
  variables: (of: Variables) => string,
): string {
  switch (pdu.service) {
    case 'status':
    case 'identify':
      return '';
    case 'nameList': {
      const { class: of, domain, after } = pdu.request;
      return `: ${of}${domain === null ? '' : ` of ${domain}`}${after === null ? '' : ` after ${after}`}`;
    }
    case 'read':
      return `: ${variables(pdu.request.variables)}`;
    case 'write':
      return `: ${variables(pdu.request.variables)} = ${some(pdu.request.values.map((one: Data) => dataWords(one)))}`;
    case 'attributes':
    case 'listAttributes':
    case 'readJournal':
    case 'initializeJournal':
    case 'journalStatus':
      return `: ${name(pdu.request.name)}`;
    case 'defineList':
      return `: ${name(pdu.request.name)}, ${plural(pdu.request.names.length, 'member')}`;
    case 'deleteList':
      return `: ${some(pdu.request.names.map(name))}`;
    case 'obtainFile':
      return `: ${pdu.request.source} as ${pdu.request.destination}`;
    case 'fileOpen':
    case 'fileDelete':
      return `: ${pdu.request.name}`;
    case 'fileRead':
    case 'fileClose':
      return `: ${pdu.request.handle}`;
    case 'fileDirectory':
      return pdu.request.name === '' ? '' : `: ${pdu.request.name}`;
    default:
      return pdu satisfies never;
  }
}

function responseWords(pdu: Pdu & { type: 'response' }): string {
  switch (pdu.service) {
    case 'status':
    case 'defineList':
    case 'obtainFile':
    case 'fileClose':
    case 'fileDelete':
      return '';
    case 'nameList':
      return `: ${plural(pdu.response.names.length, 'name')}${pdu.response.more ? ', more follow' : ''}`;
    case 'identify':
      return `: ${[pdu.response.vendor, pdu.response.model, pdu.response.revision].filter(Boolean).join(', ')}`;
    case 'read':
      return `: ${some(pdu.response.results.map(dataWords))}`;
    case 'write':
      return `: ${some(pdu.response.results.map((error) => (error === null ? 'done' : accessErrorWords(error))))}`;
    case 'attributes':
      return `: ${pdu.response.of.type}`;
    case 'listAttributes':
      return `: ${plural(pdu.response.names.length, 'member')}`;
    case 'deleteList':
      return `: ${pdu.response.deleted} of ${pdu.response.matched} deleted`;
    case 'fileOpen':
      return `: ${pdu.response.handle}, ${plural(pdu.response.attributes.size, 'octet')}`;
    case 'fileRead':
      return `: ${plural(pdu.response.data.length, 'octet')}${pdu.response.more ? ', more follow' : ''}`;
    case 'fileDirectory':
      return `: ${plural(pdu.response.entries.length, 'file')}${pdu.response.more ? ', more follow' : ''}`;
    case 'readJournal': {
      const { entries, more } = pdu.response;
      return `: ${entries.length === 1 ? '1 entry' : `${entries.length} entries`}${more ? ', more follow' : ''}`;
    }
    case 'initializeJournal':
      return `: ${pdu.response.deleted} taken out`;
    case 'journalStatus':
      return `: ${pdu.response.entries} there`;
    default:
      return pdu satisfies never;
  }
}
