export { default } from './examples/apiary/lintel.config.js';
