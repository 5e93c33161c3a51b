/**
 * Documents that 0.6 stored and that were never written again: their known members get the names of today, each at its place. Databases that no
 * 0.6 ever wrote to have none of them.
 */
const member = (path: string, former: string, present: string): string =>
  `UPDATE provider_versions SET document = JSON_REMOVE(JSON_SET(document, '${path}.${present}', JSON_EXTRACT(document, '${path}.${former}')), '${path}.${former}')
   WHERE JSON_EXISTS(document, '${path}.${former}')`;
/** Of members of items in lists, which no path of MariaDB can set: the text around them belongs to no other place. */
const inItems = (table: string, column: string, pairs: readonly (readonly [former: string, present: string])[]): string =>
  `UPDATE ${table} SET ${column} = ${pairs.reduce((text, [former, present]) => `REPLACE(${text}, '${former}', '${present}')`, column)}
   WHERE ${pairs.map(([former]) => `${column} LIKE '%${former}%'`).join(' OR ')}`;

const SCOPES = ['person', 'itself', 'either'].map((whose) => [`"acts_for":"${whose}","organisation":`, `"acts_for":"${whose}","organization":`] as const);

export const FORMER_WORDS: readonly string[] = [
  // First: what JSON functions write has blanks that these texts have not.
  inItems('provider_versions', 'document', [
    ...SCOPES,
    ['[{"ability":', '[{"capability":'],
    [',{"ability":', ',{"capability":'],
    ['"look_alike":"', '"do_not_confuse":"'],
    ['"found_right_on":"', '"last_verified":"'],
    ['"reach":"organisation"', '"reach":"organization"'],
    ['"answer":"organisation"', '"answer":"organization"'],
  ]),
  member('$.dialect', 'scope_delimiter', 'scope_separator'),
  member('$.dialect', 'organisation_agreement', 'admin_consent'),
  member('$.dialect.admin_consent', 'refused', 'rejected'),
  member('$.dialect.approval_check', 'given', 'approved'),
  member('$.dialect.approval_check', 'asked', 'requested'),
  member('$.dialect.approval_check', 'they_ask_back', 'info_requested'),
  member('$.dialect.approval_check', 'refused', 'rejected'),
  `UPDATE provider_versions SET document = JSON_SET(document, '$.guide', JSON_COMPACT(REPLACE(JSON_EXTRACT(document, '$.guide'), '{organisation}', '{organization}')))
   WHERE JSON_EXTRACT(document, '$.guide') LIKE '%{organisation}%'`,
  inItems('grants', 'abilities', [
    ['"state":"proved"', '"state":"verified"'],
    ['"state":"not_tried"', '"state":"not_verified"'],
  ]),
  inItems('installations', 'answers', [['"organisation":', '"organization":']]),
];
