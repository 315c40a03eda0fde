export {
  applyRule,
  mappingTo,
  matcher,
  USUAL_CLASS,
  type MappingRule,
  type RulePreview,
  type RuleRow,
  type Source,
} from './rules.ts';
export { mapSheet, SHEET_HEADING } from './sheet.ts';
