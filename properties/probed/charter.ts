import { decimal, defineCharter, defineKinds, flag, id, maker, owner, parent, tenant, text } from 'warm-lintel';

const text_ = { type: 'text' } as const;
const number = { type: 'integer' } as const;

const kinds = defineKinds(
  {
    tool: {
      table: 'tools',
      label: 'name',
      fields: {
        id: id(number),
        orgId: tenant(text_),
        ownerId: owner({ ...text_, change: 'give' }),
        createdBy: maker(text_),
        name: text(),
        note: text(),
        price: decimal({ scale: 2, read: 'value', change: 'value' }),
        serialCode: text({ read: 'value', change: 'value' }),
        shared: flag(),
        archived: flag({ change: 'archive' }),
      },
      actions: {
        read: { label: 'See a tool' },
        create: { label: 'Add a tool' },
        update: { label: 'Change a tool' },
        delete: { label: 'Delete a tool' },
        give: { label: 'Give a tool away' },
        value: { label: 'See and set what a tool is worth' },
        archive: { label: 'Archive a tool' },
      },
    },
    loan: {
      table: 'loans',
      label: 'remark',
      fields: {
        id: id(number),
        orgId: tenant(text_),
        toolId: parent('tool', { ...number, follow: false, change: 'refile' }),
        borrowerId: owner({ ...text_, change: 'give' }),
        remark: text(),
      },
      actions: {
        read: { label: 'See a loan' },
        create: { label: 'Borrow a tool' },
        refile: { label: 'Say which tool is borrowed' },
        give: { label: 'Borrow for another' },
      },
    },
  },
  {
    tool: { own: ({ record, me }) => record.ownerId.is(me.userId), lent: ({ record }) => record.shared.is(true) },
    loan: { own: ({ record, me }) => record.borrowerId.is(me.userId) },
  },
);

/** What the lending of tools is meant to be. Its roles are those of its table of users. */
export const charter = defineCharter(kinds, {
  roles: {
    admin: {
      label: 'Admin',
      may: {
        'tool.read': 'tenant',
        'tool.create': 'tenant',
        'tool.update': 'tenant',
        'tool.delete': 'tenant',
        'tool.give': 'tenant',
        'tool.value': 'tenant',
        'tool.archive': 'tenant',
        'loan.read': 'tenant',
        'loan.create': 'own',
        'loan.refile': 'own',
      },
    },
    member: {
      label: 'Member',
      may: {
        'tool.read': ['lent', 'own'],
        'tool.create': 'own',
        'tool.update': 'own',
        'tool.delete': 'own',
        'tool.archive': 'own',
        'loan.read': 'own',
        'loan.create': 'own',
        'loan.refile': 'own',
      },
    },
    viewer: { label: 'Viewer', may: { 'tool.read': ['lent', 'own'], 'loan.read': 'own' } },
  },
  limits: { tool: { archived: { actions: ['update'], where: ({ record }) => record.archived.is(true), sentence: 'an archived tool does not change.' } } },
});
