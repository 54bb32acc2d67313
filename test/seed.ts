import fc from 'fast-check';

/** Every property draws from one seed: the same for each `npm test`; in the long run one drawn then and printed; or yours, `LINTEL_SEED=7 npm test`. */
fc.configureGlobal({ seed: Number(process.env.LINTEL_SEED) });
