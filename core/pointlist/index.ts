export { POINT_FIELDS, fieldOfHeading, newPoint, pointField, readNumber, type PointField } from './fields/index.ts';
export {
  addressesIn,
  csvOf,
  decodeText,
  MAX_ROWS,
  previewTable,
  readTable,
  tableOf,
  tableOfPoints,
  type CellProblem,
  type Preview,
  type PreviewContext,
  type PreviewRow,
  type RowState,
  type Table,
} from './table.ts';
export { filledPattern, renamed, replaced, runOfPoints, series, type PatternContext, type Run } from './edit.ts';
