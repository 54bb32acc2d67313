import type { Planted } from './scope-guards.js';

/** The guards of accounts, each taken out: the tests of accounts, or of sessions that are bound, have to notice. */
export const ACCOUNT_GUARDS: readonly Planted[] = [
  [
    'an early return where there is no account',
    'accounts/signing-in.ts',
    '  const [who, key] = await',
    '  if (!found) throw signInFailed();\n  const [who, key] = await',
  ],
  ['tries are not waited for', 'accounts/tries.ts', ' where t.open_at <= ${at} returning', ' returning'],
  ['a link counts again and again', 'mail/links.ts', '`delete from lintel_link where', '`update lintel_link set asked_at = asked_at where'],
  [
    'an address that was never proven stays with who had it',
    'accounts/letters.ts',
    '    await inside.giveUpAddress(address);\n    const userId = await inside.addPerson({ name, address, confirmedAt',
    '    const userId = await inside.addPerson({ name, address, confirmedAt',
  ],
  ['a forgotten password of whoever never proved the address', 'mail/deliver.ts', 'isMeant(Boolean(owner?.confirmedAt))', 'isMeant(Boolean(owner))'],
  ['a device outlives the password', 'accounts/password.ts', "  await tx.deleteFrom('lintel_device').where('person_id', '=', userId).execute();\n", ''],
  ['sessions outlive the password', 'accounts/password.ts', '  await sessions.end(tx, userId, { but });\n', ''],
  ['sessions outlive the address', 'accounts/sessions.ts', "      .whereRef('s.address', '=', 'p.address')\n", ''],
  [
    'sessions outlive their idleness',
    'accounts/sessions.ts',
    "      .where('s.expires_at', '>', new Date(now))\n      .where('s.seen_at', '>', new Date(now - this.#idle))",
    "      .where('s.expires_at', '>', new Date(now))",
  ],
  ['the password alone is a session', 'accounts/sessions.ts', "      .where('s.is_half', '=', false)\n", ''],
  ['a code counts twice', 'accounts/factors.ts', "    .where('last_step', '<', step)\n", ''],
  ['a recovery code counts twice', 'accounts/factors.ts', '  if (numDeletedRows === 0n) throw signInFailed();\n', ''],
  [
    'wrong codes are not counted',
    'accounts/signing-in.ts',
    'await ground.counted(`code ${half.person_id}`, () =>',
    'await ground.counted(`code ${Math.random()}`, () =>',
  ],
  ['another’s letter adds a second factor', 'accounts/factors.ts', 'if (address !== row.address) throw', 'if (false) throw'],
  ['a credential is changed without a proof', 'accounts/ground.ts', 'row.proven_at.getTime() > this.recentSince && ', ''],
  [
    'a password is proof enough beside a second factor',
    'accounts/password.ts',
    "  else if (row.has_factor) throw new LintelError('code-needed', 'Your account has a second factor: give a code of it.', {});\n",
    '',
  ],
  ['a bound session touches the person', 'accounts/ground.ts', 'if (row.enters !== null)', 'if (false)'],
  ['a bound session enters everywhere', 'server/lintel.ts', '!this.#enters(entry, tenant) ? undefined', 'false ? undefined'],
  ['what a bound session asks of its person is answered', 'server/signed.ts', 'if (enters === undefined) return user;', 'if (true) return user;'],
];
