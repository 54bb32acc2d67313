import type { TestProject } from 'vitest/node';

/** The server is there already. */
export default (project: TestProject): void => project.provide('postgres', process.env.LINTEL_POSTGRES ?? '');
