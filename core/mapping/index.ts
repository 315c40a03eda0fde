export {
  applyRule,
  mappingTo,
  matcher,
  type MappingRule,
  type RulePreview,
  type RuleRow,
  type Source,
} from './rules.ts';
export { mapSheet } from './sheet.ts';
