export { type Colours, type GridOptions, grid, plain } from './grid.js';
