-- +goose Up
alter table groups
    add column spread   text    not null default 'even',
    add column above    integer not null default 1,
    add column relapses jsonb   not null default '[]';
alter table instances add column renew boolean not null default false;
alter table templates add column zone_prices jsonb not null default '{}';
alter table checks add column labels jsonb not null default '{}';

-- A pool has one or more listeners; no two listen on one address.
create table listeners (
    address     text    primary key,
    pool        text    not null references pools (name) on delete cascade,
    position    integer not null,
    certificate text    not null default '',
    key         text    not null default ''
);
insert into listeners (address, pool, position) select listen, name, 0 from pools;
alter table pools
    drop column listen,
    add column zones          text[]  not null default '{}',
    add column choose         text    not null default 'round-robin',
    add column nobody         text    not null default 'refuse',
    add column slow_start_ms  bigint  not null default 0,
    add column shares         jsonb   not null default '[]',
    add column enough_percent integer not null default 50,
    add column weights        jsonb   not null default '{}',
    add column labels         jsonb   not null default '{}';

-- How long machines ran, for what they cost. A row is open while one runs.
create table runs (
    number           bigint      generated always as identity primary key,
    instance         text        not null,
    group_name       text        not null,
    zone             text        not null,
    labels           jsonb       not null,
    price_per_hour   double precision not null,
    from_at          timestamptz not null,
    until_at         timestamptz
);
create unique index runs_open on runs (instance) where until_at is null;
create index runs_until on runs (until_at);

-- +goose Down
drop table runs;
alter table pools add column listen text;
update pools set listen = (select address from listeners where pool = name order by position limit 1);
alter table pools alter column listen set not null, add unique (listen);
alter table pools drop column zones, drop column choose, drop column nobody, drop column slow_start_ms, drop column shares,
    drop column enough_percent, drop column weights, drop column labels;
drop table listeners;
alter table checks drop column labels;
alter table templates drop column zone_prices;
alter table instances drop column renew;
alter table groups drop column spread, drop column above, drop column relapses;
