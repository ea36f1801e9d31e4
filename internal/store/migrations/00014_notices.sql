-- +goose Up

-- Who wants to hear of what, what was gathered for a message, and the messages.
create table notices (
    name        text        primary key,
    topics      text[]      not null,
    groups      text[]      not null default '{}',
    send        text        not null default '',
    mail        text[]      not null default '{}',
    gather_ms   bigint      not null,
    off         boolean     not null default false,
    secret      text        not null default '',
    last_event  bigint      not null,
    failing_at  timestamptz,
    failing_why text        not null default '',
    revision    bigint      not null default 1,
    created_at  timestamptz not null default now(),
    created_by  text        not null
);
create table gathered (
    notice     text        not null references notices (name) on delete cascade,
    event      bigint      not null,
    noted_at   timestamptz not null,
    line       jsonb       not null,
    primary key (notice, event)
);
create table messages (
    number    bigserial   primary key,
    notice    text        not null references notices (name) on delete cascade,
    at        timestamptz not null,
    content   jsonb       not null,
    state     text        not null,
    tries     integer     not null default 0,
    next_at   timestamptz not null,
    tried_at  timestamptz,
    took_ms   bigint      not null default 0,
    status    integer     not null default 0,
    came_back text        not null default '',
    sent_by   text        not null default ''
);
create index messages_waiting on messages (next_at) where state = 'waiting';
create index messages_of on messages (notice, number);
-- Whether the answer to the ticket came back at once.
alter table deliveries add column answered boolean not null default false;
