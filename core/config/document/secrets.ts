import type { SettingField } from '../../protocols/index.ts';
import type { Configuration } from './document.ts';
import { fieldsOf, valueAt, withValueAt } from './fields.ts';
import type { ConfigObject, ObjectKind } from './objects.ts';

/*
 * Secrets: settings that only whoever speaks with the other side may read. A document says `secret:` and a number, under
 * which the secret itself is kept sealed elsewhere. One that stands in a document as it is has only just been typed, or
 * comes from a file: it is put away before the document is stored.
 */

const STORED = /^secret:([0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12})$/;

/** The number under which a secret is kept; null: there is none, or it stands here as it is. */
export const storedNumber = (value: unknown): string | null =>
  typeof value === 'string' ? (STORED.exec(value)?.[1] ?? null) : null;

export const storedAs = (number: string): string => `secret:${number}`;

/** How a secret is told to people: never itself. */
export const secretWords = (value: unknown): string =>
  typeof value !== 'string' || value === '' ? 'none' : storedNumber(value) === null ? 'a new one' : 'one is stored';

/** A secret that is given in an object. */
export interface PlacedSecret {
  kind: ObjectKind;
  /** Empty: it has none yet. */
  code: string;
  field: SettingField;
  value: string;
}

/** The secrets that an object has. */
export function secretsOf({ kind, document }: Pick<ConfigObject, 'kind' | 'document'>): PlacedSecret[] {
  if (document === null) return [];
  return fieldsOf(kind, document)
    .filter(({ type }) => type === 'secret')
    .flatMap((field) => {
      const value = valueAt(document, field.path);
      return typeof value === 'string' && value !== ''
        ? [{ kind, code: (document as { code?: string }).code ?? '', field, value }]
        : [];
    });
}

/** An object with other secrets: by what each is now. */
export function withSecrets<Document>(
  kind: ObjectKind,
  document: Document,
  next: (secret: PlacedSecret) => string,
): Document {
  let changed = document;
  for (const secret of secretsOf({ kind, document })) changed = withValueAt(changed, secret.field.path, next(secret));
  return changed;
}

/** All secrets of a configuration. */
export const allSecrets = ({ links, devices, outbounds }: Configuration): PlacedSecret[] => [
  ...links.flatMap((document) => secretsOf({ kind: 'link', document })),
  ...devices.flatMap((document) => secretsOf({ kind: 'device', document })),
  ...outbounds.flatMap((document) => secretsOf({ kind: 'outbound', document })),
];

/** The same configuration with other secrets; points and mappings are those of the given one. */
export const withAllSecrets = (
  configuration: Configuration,
  next: (secret: PlacedSecret) => string,
): Configuration => ({
  ...configuration,
  links: configuration.links.map((link) => withSecrets('link', link, next)),
  devices: configuration.devices.map((device) => withSecrets('device', device, next)),
  outbounds: configuration.outbounds.map((outbound) => withSecrets('outbound', outbound, next)),
});
