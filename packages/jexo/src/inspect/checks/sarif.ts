import { rules, type Finding } from './finding.js';

/** The findings as SARIF 2.1.0, which code hosting shows beside the code. */
export function toSarif(found: readonly Finding[], version: string): object {
  return {
    $schema: 'https://json.schemastore.org/sarif-2.1.0.json',
    version: '2.1.0',
    runs: [
      {
        tool: {
          driver: { name: 'jexo check', version, rules: Object.entries(rules).map(([id, text]) => ({ id, shortDescription: { text } })) },
        },
        results: found.map(({ rule, severity, subject, message, remedy, where }) => {
          const place = /^(.*?):(\d+)(?::\d+)?$/.exec(where ?? '');
          return {
            ruleId: rule,
            level: severity,
            message: { text: `${subject}: ${message} ${remedy}` },
            locations: [
              place === null
                ? { logicalLocations: [{ name: subject }] }
                : {
                    physicalLocation: {
                      artifactLocation: { uri: place[1]!.replaceAll('\\', '/') },
                      region: { startLine: Number(place[2]) },
                    },
                  },
            ],
          };
        }),
      },
    ],
  };
}
