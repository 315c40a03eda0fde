export {
  applyRule,
  everyPoint,
  mappingTo,
  matcher,
  type MappingRule,
  type RulePreview,
  type RuleRow,
  usualNumbering,
  type Source,
} from './rules.ts';
export { mapSheet } from './sheet.ts';
