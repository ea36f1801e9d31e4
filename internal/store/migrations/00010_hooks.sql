-- +goose Up

-- Hooks of groups, and the tickets of an instance's present launch. Secrets that messages
-- are signed with stand apart: whoever may read a group may not read them.
alter table groups
    add column hooks jsonb not null default '[]',
    add column hooks_at_once boolean not null default false;
alter table instances
    add column tickets jsonb not null default '[]';
create index instances_held on instances (group_name, serial) where state in ('held', 'held-out');
create index instances_ticketed on instances (group_name, since) where tickets <> '[]';
create table hook_secrets (
    group_name text        not null references groups (name) on delete cascade,
    hook       text        not null,
    secret     text        not null,
    created_at timestamptz not null default now(),
    primary key (group_name, hook)
);
-- What was sent or run for a ticket, and what came back.
create table deliveries (
    number     bigserial   primary key,
    group_name text        not null,
    instance   text        not null,
    launch     integer     not null,
    hook       text        not null,
    kind       text        not null,
    at         timestamptz not null,
    took_ms    bigint      not null,
    status     integer     not null,
    heard      boolean     not null,
    came_back  text        not null,
    sent_by    text        not null
);
create index deliveries_of on deliveries (group_name, hook, number);
create index deliveries_at on deliveries (at);
