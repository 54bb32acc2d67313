export { type Colours, grid, plain } from './grid.js';
