/* Who may do what in a workshop, said once. */
import { defineCharter, defineKinds, id, integer, maker, not, oneOf, or, people, person, tenant, text, through } from 'warm-lintel';

const ids = { type: 'integer' } as const;

const kinds = defineKinds(
  {
    job: {
      table: 'jobs',
      label: 'title',
      fields: {
        id: id(ids),
        workshopId: tenant(ids),
        title: text(),
        state: oneOf(['open', 'done']),
        price: integer({ read: 'seePrice', change: 'price' }),
        mechanicId: person({ ...ids, change: 'give' }),
        openedBy: maker(ids),
        watchers: people({ ...ids, table: 'watchers', record: 'job_id', user: 'user_id', change: 'watch' }),
      },
      actions: {
        read: { label: 'See a job' },
        create: { label: 'Open a job' },
        update: { label: 'Change a job' },
        delete: { label: 'Delete a job' },
        give: { label: 'Give a job to a mechanic' },
        take: { label: 'Take a job that nobody has' },
        price: { label: 'Set the price' },
        seePrice: { label: 'See the price' },
        watch: { label: 'Let somebody watch a job' },
      },
    },
    comment: {
      table: 'comments',
      label: 'body',
      fields: { id: id(ids), jobId: through('job', ids), authorId: maker(ids), body: text() },
      actions: { read: { label: 'Read a comment' }, create: { label: 'Comment' }, update: { label: 'Change a comment' } },
    },
  },
  {
    job: {
      mine: ({ record, me }) => record.mechanicId.is(me.userId),
      opened: ({ record, me }) => record.openedBy.is(me.userId),
      known: ({ record, me }) => or(record.openedBy.is(me.userId), record.watchers.includes(me.userId)),
      free: ({ record }) => record.mechanicId.isEmpty(),
    },
    comment: { own: ({ record, me }) => record.authorId.is(me.userId) },
  },
);

export const charter = defineCharter(kinds, {
  keyholder: { label: 'Manager', sentence: 'Runs the workshop.' },
  areas: { bench: { label: 'Mend' } },
  roles: {
    mechanic: {
      label: 'Mechanic',
      may: { 'job.read': 'tenant', 'job.update': 'mine', 'job.take': 'free', 'job.watch': 'tenant', 'area.bench': 'tenant', 'member.read': 'tenant' },
    },
    customer: { label: 'Customer', may: { 'job.read': 'known', 'member.read': ['role.keyholder', 'self'] } },
  },
  everyMember: { 'job.create': 'tenant', 'job.seePrice': 'opened', 'comment.read': 'followed', 'comment.create': 'own', 'comment.update': 'own' },
  limits: {
    comment: {
      others: { actions: ['update'], where: ({ record, me }) => not(record.authorId.is(me.userId)), sentence: 'only who wrote a comment changes it.' },
    },
  },
});
