export { defineConfig, type LintelConfig } from './config.js';
export { EXIT, run, type Surroundings } from './program.js';
