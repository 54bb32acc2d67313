declare module 'email-providers' {
  /** Domains under which anybody gets an address. */
  const all: readonly string[];
  export default all;
}
