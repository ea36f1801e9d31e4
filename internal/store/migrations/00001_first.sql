-- +goose Up
create table images (
    name        text        not null,
    version     integer     not null check (version > 0),
    state       text        not null,
    digest      text        not null,
    size_bytes  bigint      not null,
    start       text[]      not null,
    created_at  timestamptz not null default now(),
    created_by  text        not null,
    primary key (name, version)
);
create table templates (
    name         text        not null,
    version      integer     not null check (version > 0),
    image        text        not null,
    image_version integer    not null,
    port         integer     not null,
    user_data    text        not null,
    environment  jsonb       not null,
    labels       jsonb       not null,
    note         text        not null,
    created_at   timestamptz not null default now(),
    created_by   text        not null,
    primary key (name, version),
    foreign key (image, image_version) references images (name, version)
);
create table checks (
    name       text        primary key,
    kind       text        not null,
    port       integer     not null,
    path       text        not null,
    interval_ms bigint     not null,
    timeout_ms bigint      not null,
    passes     integer     not null,
    fails      integer     not null,
    revision   bigint      not null default 1,
    created_at timestamptz not null default now()
);
create table pools (
    name       text        primary key,
    listen     text        not null unique,
    "check"    text        not null references checks (name),
    revision   bigint      not null default 1,
    created_at timestamptz not null default now()
);
-- A replica is alive while its time has not run out; groups name the replica
-- that decides for them. The epoch of a group only grows, and every write that
-- follows from a decision names it.
create table replicas (
    id    text        primary key,
    until timestamptz not null
);
create table groups (
    name             text        primary key,
    size             integer     not null,
    min              integer     not null,
    max              integer     not null,
    template         text        not null,
    template_version integer     not null,
    zones            text[]      not null,
    pools            text[]      not null,
    heal             text        not null,
    settle_ms        bigint      not null,
    drain_ms         bigint      not null,
    deleting         boolean     not null default false,
    next_serial      integer     not null,
    setbacks         jsonb       not null default '[]',
    -- revision counts what people change; generation counts every write.
    revision         bigint      not null default 1,
    generation       bigint      not null default 1,
    replica          text,
    epoch            bigint      not null default 0,
    created_at       timestamptz not null default now(),
    check (min <= size and size <= max),
    foreign key (template, template_version) references templates (name, version)
);
-- Serials outlive their group, so that an instance's id is never used twice.
create table serials (
    group_name text    primary key,
    next       integer not null
);
create sequence addresses;
create table instances (
    id               text        primary key,
    group_name       text        not null,
    serial           integer     not null,
    zone             text        not null,
    template         text        not null,
    template_version integer     not null,
    state            text        not null,
    since            timestamptz not null,
    why              text        not null,
    address          text        not null,
    address_number   bigint      not null,
    pinned           boolean     not null default false,
    ordered_at       timestamptz not null,
    up_at            timestamptz,
    served_at        timestamptz,
    reports          jsonb       not null default '[]',
    revision         bigint      not null default 1
);
create index instances_of_group on instances (group_name, serial);
create unique index instances_address on instances (address) where state <> 'gone';
create table rollouts (
    number       bigint      generated always as identity primary key,
    group_name   text        not null,
    from_version integer     not null,
    from_name    text        not null,
    to_version   integer     not null,
    to_name      text        not null,
    waves        text        not null,
    above        integer     not null,
    below        integer     not null,
    soak_ms      bigint      not null,
    state        text        not null,
    since        timestamptz not null,
    why          text        not null,
    wave         integer     not null,
    times        jsonb       not null,
    resumed      timestamptz not null,
    stumbles     integer     not null,
    started_at   timestamptz not null,
    started_by   text        not null,
    ended_at     timestamptz,
    revision     bigint      not null default 1
);
create unique index rollouts_one_live on rollouts (group_name) where ended_at is null;
create index rollouts_of_group on rollouts (group_name, number desc);
create table journal (
    number     bigint      generated always as identity primary key,
    at         timestamptz not null,
    kind       text        not null,
    group_name text        not null default '',
    instance   text        not null default '',
    rollout    bigint      not null default 0,
    actor      text        not null,
    text       text        not null,
    because    text        not null,
    numbers    jsonb       not null
);
create index journal_of_group on journal (group_name, number desc);
create index journal_of_instance on journal (instance, number desc) where instance <> '';
create index journal_of_rollout on journal (rollout, number desc) where rollout <> 0;
-- Events wait here for whoever watches. They are read in the order of the
-- transactions that wrote them, and only once no older one can still appear.
create table outbox (
    id         bigint      generated always as identity,
    tx         xid8        not null default pg_current_xact_id(),
    at         timestamptz not null default now(),
    kind       text        not null,
    group_name text        not null default '',
    data       jsonb       not null,
    primary key (tx, id)
);
create table tokens (
    name       text        primary key,
    hash       bytea       not null unique,
    created_at timestamptz not null default now()
);
create table repeats (
    key         text        not null,
    token       text        not null,
    fingerprint bytea       not null,
    status      integer,
    body        bytea,
    created_at  timestamptz not null default now(),
    primary key (token, key)
);

-- +goose Down
drop table repeats, tokens, outbox, journal, rollouts, instances, serials, groups, replicas, pools, checks, templates, images;
drop sequence addresses;
