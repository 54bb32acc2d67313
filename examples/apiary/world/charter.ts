import { decimal, defineCharter, defineKinds, id, instant, integer, maker, oneOf, owner, parent, people, tenant, text, unit } from 'warm-lintel';

/** All ids of this application are texts. */
const ids = { type: 'text' } as const;

const kinds = defineKinds(
  {
    hive: {
      table: 'hives',
      label: 'name',
      journal: true,
      fields: {
        id: id(ids),
        tenantId: tenant(ids),
        keeperId: owner({ ...ids, change: 'transfer', label: 'keeper' }),
        madeBy: maker(ids),
        siteId: unit({ ...ids, change: 'move', label: 'site' }),
        name: text(),
        colonies: integer(),
        status: oneOf(['active', 'archived'], { change: 'archive' }),
        registrationNo: text({ change: 'register', read: 'inspect', label: 'registration number' }),
        inspectors: people({ ...ids, table: 'hive_inspectors', tenant: 'tenant_id', record: 'hive_id', user: 'user_id', change: 'appoint' }),
      },
      actions: {
        read: { label: 'See a hive' },
        create: { label: 'Add a hive', needs: ['hive.read'] },
        update: { label: 'Change a hive', sentence: 'Changes its name and the number of colonies.', needs: ['hive.read'] },
        transfer: { label: 'Hand a hive over', sentence: 'Makes another member its keeper; the giver’s power over it ends.', needs: ['hive.read'] },
        move: { label: 'Move a hive', sentence: 'Takes it to another site.', needs: ['hive.read'] },
        archive: { label: 'Archive a hive', sentence: 'Archives it, and brings it back.', needs: ['hive.read'] },
        inspect: { label: 'Inspect a hive', sentence: 'Sees its registration number.', needs: ['hive.read'] },
        register: { label: 'Register a hive', sentence: 'Sets its registration number.', needs: ['hive.inspect'] },
        appoint: { label: 'Appoint inspectors', needs: ['hive.read'] },
      },
    },
    inspection: {
      table: 'inspections',
      label: 'summary',
      journal: true,
      fields: {
        id: id(ids),
        tenantId: tenant(ids),
        hiveId: parent('hive', { ...ids, change: 'refile', label: 'hive' }),
        madeBy: maker(ids),
        heldAt: instant(),
        summary: text(),
      },
      actions: {
        read: { label: 'See an inspection' },
        create: { label: 'Write an inspection', needs: ['inspection.read', 'inspection.refile'] },
        update: { label: 'Correct an inspection', needs: ['inspection.read'] },
        refile: { label: 'File an inspection', sentence: 'Says which hive it belongs to.', needs: ['inspection.read'] },
      },
    },
    entry: {
      table: 'entries',
      label: 'purpose',
      one: 'ledger entry',
      many: 'ledger entries',
      journal: true,
      fields: {
        id: id(ids),
        tenantId: tenant(ids),
        madeBy: maker(ids),
        purpose: text(),
        amount: decimal({ scale: 2 }),
        status: oneOf(['draft', 'booked'], { change: 'book' }),
      },
      actions: {
        read: { label: 'See a ledger entry' },
        create: { label: 'Write a ledger entry', needs: ['entry.read'] },
        update: { label: 'Correct a ledger entry', needs: ['entry.read'] },
        book: { label: 'Book a ledger entry', needs: ['entry.read'] },
      },
    },
    report: {
      table: 'reports',
      label: 'disease',
      one: 'disease report',
      many: 'disease reports',
      fields: {
        id: id(ids),
        tenantId: tenant(ids),
        hiveId: parent('hive', { ...ids, follow: false, change: 'refile', label: 'hive' }),
        madeBy: maker(ids),
        disease: text(),
        findings: text(),
      },
      actions: {
        read: { label: 'See a disease report' },
        create: { label: 'File a disease report', brings: 'the veterinary office is told' },
        refile: { label: 'Say which hive a disease report is about' },
      },
    },
    sheet: {
      table: 'sheets',
      label: 'title',
      one: 'reference sheet',
      many: 'reference sheets',
      shared: true,
      fields: { id: id(ids), title: text(), body: text() },
      actions: { read: { label: 'Read a reference sheet' } },
    },
  },
  {
    hive: {
      own: ({ record, me }) => record.keeperId.is(me.userId),
      unclaimed: ({ record }) => record.keeperId.isEmpty(),
      appointed: ({ record, me }) => record.inspectors.includes(me.userId),
      onSite: ({ record, me }) => record.siteId.within(me.unitIds),
    },
    inspection: {
      written: ({ record, me }) => record.madeBy.is(me.userId),
      ofOwnHive: ({ record, me }) => record.hiveId.parent.keeperId.is(me.userId),
    },
    report: { filed: ({ record, me }) => record.madeBy.is(me.userId) },
  },
);

/** Who may do what in a beekeepers' association. */
export const charter = defineCharter(kinds, {
  areas: {
    hives: { label: 'Hives', perUnit: true, needs: ['hive.read'] },
    ledger: { label: 'Ledger', needs: ['entry.read'] },
    health: { label: 'Disease reports', needs: ['report.read'] },
    members: { label: 'Members', needs: ['member.read'] },
    sheets: { label: 'Reference sheets', needs: ['sheet.read'] },
  },
  roles: {
    reader: {
      label: 'Reader',
      sentence: 'Looks at the hives of the association.',
      startsAt: 'hives',
      may: { 'area.hives': 'tenant', 'hive.read': 'tenant' },
    },
    keeper: {
      label: 'Keeper',
      sentence: 'Keeps hives: sees all, changes their own.',
      startsAt: 'hives',
      includes: ['reader'],
      may: {
        'hive.create': 'own',
        'hive.update': ['own', 'unclaimed'],
        'hive.transfer': 'own',
        'hive.archive': 'own',
        'hive.move': 'own',
        'hive.inspect': 'own',
        'inspection.read': 'followed',
        'inspection.create': 'ofOwnHive',
        'inspection.refile': 'ofOwnHive',
        'inspection.update': 'written',
        'member.read': 'tenant',
      },
    },
    junior: {
      label: 'Junior',
      sentence: 'Helps at the site where they are placed, and sees nothing else.',
      startsAt: 'hives',
      may: { 'area.hives': 'tenant', 'hive.read': 'onSite', 'inspection.read': 'followed' },
    },
    warden: {
      label: 'Site warden',
      sentence: 'In charge of all hives where the role is held.',
      startsAt: 'hives',
      may: {
        'area.hives': 'tenant',
        'hive.read': 'tenant',
        'hive.create': 'tenant',
        'hive.update': 'tenant',
        'hive.transfer': 'tenant',
        'hive.move': 'tenant',
        'hive.archive': 'tenant',
        'inspection.read': 'tenant',
        'member.read': 'tenant',
      },
    },
    inspector: {
      label: 'Inspector',
      sentence: 'Inspects the hives they are appointed to.',
      startsAt: 'hives',
      may: {
        'area.hives': 'tenant',
        'hive.read': 'appointed',
        'hive.inspect': 'appointed',
        'hive.register': 'appointed',
        'inspection.read': 'followed',
        'inspection.create': 'followed',
        'inspection.refile': 'followed',
        'inspection.update': 'written',
        'report.read': 'filed',
        'report.create': 'filed',
        'report.refile': 'filed',
      },
    },
    treasurer: {
      label: 'Treasurer',
      sentence: 'Keeps the honey ledger.',
      startsAt: 'ledger',
      may: { 'area.ledger': 'tenant', 'entry.read': 'tenant', 'entry.create': 'tenant', 'entry.update': 'tenant', 'entry.book': 'tenant' },
    },
    healthOfficer: {
      label: 'Health officer',
      sentence: 'Reads the disease reports.',
      startsAt: 'health',
      includes: ['reader'],
      may: { 'area.health': 'tenant', 'report.read': 'tenant', 'hive.inspect': 'tenant' },
    },
    secretary: {
      label: 'Secretary',
      sentence: 'Brings people in and gives them roles, without holding those roles.',
      startsAt: 'members',
      may: { 'area.members': 'tenant', 'member.read': 'tenant', 'member.invite': 'tenant', 'member.assign': 'tenant' },
      gives: ['reader', 'keeper', 'junior'],
    },
  },
  limits: {
    hive: {
      archived: {
        actions: ['update', 'transfer', 'move', 'register'],
        where: ({ record }) => record.status.is('archived'),
        sentence: 'an archived hive does not change until it is brought back.',
      },
    },
    entry: {
      booked: { actions: ['update'], where: ({ record }) => record.status.is('booked'), sentence: 'a booked entry is not corrected any more.' },
    },
  },
  obligations: {
    recentSignIn: { sentence: 'sign in again, because the last time is long ago.', before: ['member.remove', 'tenant.rename'] },
    acceptTerms: { sentence: 'read the terms, which count for whoever brings people here.', before: ['member.enrol'] },
  },
  everyMember: { 'area.sheets': 'tenant', 'sheet.read': 'shared' },
});
