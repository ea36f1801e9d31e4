-- +goose Up

-- How rollouts go about it, how few served, and what they were begun by. Courses are such
-- settings, saved by name; a group may have a usual one, and remembers what it ran before.
alter table rollouts
    add column manner jsonb not null default '{}',
    add column lowest integer not null default -1,
    add column course text not null default '',
    add column rehearsal bigint not null default 0;
alter table groups
    add column last_good text not null default '',
    add column last_good_n integer not null default 0,
    add column course text not null default '';
create table courses (
    name       text        primary key,
    settings   jsonb       not null,
    note       text        not null,
    revision   bigint      not null default 1,
    created_at timestamptz not null default now(),
    created_by text        not null
);
-- What rehearsals came to, and how a group stood when its rollout began.
create table rehearsals (
    number     bigserial   primary key,
    group_name text        not null,
    to_name    text        not null,
    to_version integer     not null,
    at         timestamptz not null,
    by_whom    text        not null,
    result     jsonb       not null
);
create index rehearsals_of on rehearsals (group_name, number);
create table stages (
    rollout bigint primary key references rollouts (number) on delete cascade,
    stage   bytea  not null
);
