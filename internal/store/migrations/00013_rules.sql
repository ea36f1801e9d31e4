-- +goose Up

-- Rules of groups, what is kept of them, and the bounds while calendars set others.
alter table groups
    add column rules jsonb not null default '[]',
    add column rule_states jsonb not null default '[]',
    add column bound jsonb,
    add column sized_by text not null default '',
    add column scrape text not null default '';

-- While a calendar lasts the size is within its bounds.
alter table groups drop constraint groups_check, add check (min <= max and size >= 0);

-- What was measured: a row for each metric of a group and moment, with the values of all its
-- instances, for a day; and what came of five minutes at a time, for thirty days.
create table samples (
    group_name text        not null,
    metric     text        not null,
    at         timestamptz not null,
    serving    integer     not null,
    missing    integer     not null,
    average    real        not null,
    highest    real        not null,
    p95        real        not null,
    serials    integer[]   not null,
    vals       real[]      not null
) partition by range (at);
create index samples_of on samples (group_name, metric, at);
create table rollups (
    group_name text        not null,
    metric     text        not null,
    at         timestamptz not null,
    serving    real        not null,
    missing    integer     not null,
    average    real        not null,
    highest    real        not null,
    p95        real        not null,
    primary key (group_name, metric, at)
) partition by range (at);
-- The last values that somebody sent, of an instance or of a group as a whole.
create table pushed (
    group_name text        not null references groups (name) on delete cascade,
    metric     text        not null,
    instance   text        not null default '',
    at         timestamptz not null,
    value      double precision not null,
    primary key (group_name, metric, instance)
);
