export {
  applyRule,
  everyPoint,
  mappingTo,
  matcher,
  type MappingRule,
  type RulePreview,
  type RuleRow,
  usualNumbering,
  type MappingSource,
} from './rules.ts';
export { agreementTable, agreementWith, type Agreement } from './agreement.ts';
export {
  agreementDocument,
  agreementOfRows,
  compareAgreement,
  madeBy,
  readAgreement,
  type AgreedFile,
  type AgreedPoint,
  type AgreementComparison,
} from './agreementfile.ts';
export { mapSheet } from './sheet.ts';
