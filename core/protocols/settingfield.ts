/**
 * A setting as people fill it in: title, unit, and whether it has to be filled in or stays folded at its default. Forms,
 * comparisons and sheets all read tables of these.
 */
export interface SettingField {
  /** Path in the object's document: `settings.retries`. */
  path: string;
  title: string;
  /** `secret`: a text that is kept sealed, and never shown (core/config/document/secrets.ts). */
  type: 'text' | 'number' | 'boolean' | 'choice' | 'classes' | 'list' | 'file' | 'secret';
  unit?: string;
  limits?: readonly [number, number];
  choices?: readonly (readonly [value: string | number, words: string])[];
  /** Of a file, which is a name with a text: what it is usually called behind its dot. */
  extensions?: readonly string[];
  /** Has to be filled in or looked at; the others are folded. */
  open?: boolean;
  /** What it does, in one line. */
  help?: string;
  /** Whether it means anything with what else the document says; absent: always. */
  applies?: (document: unknown) => boolean;
}

export const numberField = (
  path: string,
  title: string,
  unit: string,
  limits: readonly [number, number],
  more: Partial<SettingField> = {},
): SettingField => ({ path, title, type: 'number', unit, limits, ...more });

export const textField = (path: string, title: string, more: Partial<SettingField> = {}): SettingField => ({
  path,
  title,
  type: 'text',
  ...more,
});

export const booleanField = (path: string, title: string, more: Partial<SettingField> = {}): SettingField => ({
  path,
  title,
  type: 'boolean',
  ...more,
});

export const secretField = (path: string, title: string, more: Partial<SettingField> = {}): SettingField => ({
  path,
  title,
  type: 'secret',
  ...more,
});

export const NEVER = '0: never';
export const DAY_MS = 86_400_000;
