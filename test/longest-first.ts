import { basename } from 'node:path';
import { BaseSequencer, type TestSpecification } from 'vitest/node';

/** Files that take long, the longest first: begun last, one of them would keep the others' workers waiting. */
const LONGEST = ['browser', 'properties', 'guards', 'probe', 'rehearse', 'accounts', 'docs', 'people-file', 'arranging', 'desk', 'scope', 'scim'];

export class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const rank = ({ moduleId }: TestSpecification) => {
      const at = LONGEST.indexOf(basename(moduleId, '.test.ts'));
      return at < 0 ? LONGEST.length : at;
    };
    return files.toSorted((a, b) => rank(a) - rank(b));
  }
}
