import { OBJECT_SCHEMAS, type ObjectKind } from '@halvix/core/config';

/** What is wrong with a document, by the path of the field. */
export function fieldProblems(kind: ObjectKind, document: unknown): Record<string, string> {
  const parsed = OBJECT_SCHEMAS[kind].safeParse(document);
  if (parsed.success) return {};
  const problems: Record<string, string> = {};
  for (const { path, message } of parsed.error.issues) problems[path.join('.')] ??= message;
  return problems;
}

/** Hands a text file to the person. */
export function download(name: string, content: BlobPart, type: string): void {
  const url = URL.createObjectURL(new Blob([content], { type }));
  const link = document.createElement('a');
  link.href = url;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 10_000);
}

/** Rows as a workbook of one sheet; every cell is text, so that nothing is run or turned into a date. */
export async function downloadWorkbook(name: string, rows: readonly (readonly string[])[]): Promise<void> {
  const { default: writeXlsxFile } = await import('write-excel-file/universal');
  const sheet = rows.map((row, at) =>
    row.map((value) => ({ value, type: String, ...(at === 0 ? { fontWeight: 'bold' as const } : {}) })),
  );
  const blob = await writeXlsxFile(sheet).toBlob();
  download(name, blob, blob.type);
}

/** The rows of a workbook's first sheet, as text. */
export async function rowsOfWorkbook(file: File): Promise<string[][]> {
  const { readSheet } = await import('read-excel-file/universal');
  const rows = await readSheet(file);
  return rows.map((row) =>
    row.map((cell) => (cell === null ? '' : cell instanceof Date ? cell.toISOString() : String(cell))),
  );
}
