-- +goose Up

-- Why things are as they are is kept as values (codes, whom, words from outside,
-- numbers), and sentences are made of them when they are read. What was written before
-- has its words alone.
alter table instances
    add column cause    jsonb   not null default '{}',
    add column slot     integer not null default 0,
    add column purpose  text    not null default 'size',
    add column launch   integer not null default 1;
update instances set cause = jsonb_build_object('words', why), slot = serial;
alter table instances drop column why;

alter table rollouts
    add column cause    jsonb   not null default '{}',
    add column back     boolean not null default false,
    add column sized    integer not null default 0;
update rollouts set cause = jsonb_build_object('words', why), back = state in ('reverting', 'reverted');
alter table rollouts drop column why;

alter table journal
    add column cause     jsonb  not null default '{}',
    add column instances text[] not null default '{}';
create index journal_of_instances on journal using gin (instances) where instances <> '{}';

-- The book of the service, apart from what people set: slots replace the accounts that
-- were kept by instance.
alter table groups add column slots jsonb not null default '[]', drop column relapses, drop column owing;
comment on column groups.next_serial     is 'book: kept by the service';
comment on column groups.setbacks        is 'book: kept by the service';
comment on column groups.slots           is 'book: kept by the service';
comment on column groups.heal_stopped_at is 'book: kept by the service';
comment on column groups.generation      is 'book: kept by the service';
comment on column groups.epoch           is 'book: kept by the service';

-- +goose Down
alter table groups drop column slots, add column relapses jsonb not null default '[]', add column owing integer not null default 0;
drop index journal_of_instances;
alter table journal drop column cause, drop column instances;
alter table rollouts add column why text not null default '';
update rollouts set why = coalesce(cause->>'words', '');
alter table rollouts alter column why drop default, drop column cause, drop column back, drop column sized;
alter table instances add column why text not null default '';
update instances set why = coalesce(cause->>'words', '');
alter table instances alter column why drop default, drop column cause, drop column slot, drop column purpose, drop column launch;
