export { defineConfig, type LintelConfig } from './config.js';
export { run } from './program.js';
export { EXIT, type Surroundings } from './surroundings.js';
