-- +goose Up

-- Events have a number of their own, given in order once their transactions are
-- committed: whoever has read up to one has missed none before it, whatever else is
-- open in the cluster, and after a dump and restore as well.
alter table outbox
    add column number bigint,
    add column origin text not null default '';
update outbox set number = o.n from (select tx, id, row_number() over (order by tx, id) as n from outbox) o
    where outbox.tx = o.tx and outbox.id = o.id;
alter table outbox drop constraint outbox_pkey;
alter table outbox drop column tx, add primary key (id);
create unique index outbox_number on outbox (number);
create index outbox_fresh on outbox (id) where number is null;
create table feed (last bigint not null);
insert into feed select coalesce(max(number), 0) from outbox;

-- +goose StatementBegin
create function number_events() returns bigint language plpgsql as $$
declare
    base bigint;
    n    bigint;
begin
    select last into base from feed for update; -- one at a time; each statement below sees what was committed before it
    with fresh as (select id, row_number() over (order by id) as n from (select id from outbox where number is null order by id limit 1000) o)
        update outbox set number = base + fresh.n from fresh where outbox.id = fresh.id;
    get diagnostics n = row_count;
    if n > 0 then
        update feed set last = base + n;
        perform pg_notify('unitas', (base + n)::text);
    end if;
    return n;
end $$;
-- +goose StatementEnd

-- What the last decision was written with, so that one whose answer was lost is known.
alter table groups add column written text not null default '';
comment on column groups.written is 'book: kept by the service';

alter table replicas
    add column name     text        not null default '',
    add column address  text        not null default '',
    add column version  text        not null default '',
    add column since    timestamptz not null default now();
create index groups_of_replica on groups (replica);

-- +goose Down
drop index groups_of_replica;
alter table replicas drop column name, drop column address, drop column version, drop column since;
alter table groups drop column written;
drop function number_events();
drop table feed;
drop index outbox_number, outbox_fresh;
alter table outbox drop constraint outbox_pkey, drop column number, drop column origin,
    add column tx xid8 not null default pg_current_xact_id(), add primary key (tx, id);
