-- +goose Up

-- A listener is an object of its own: it may send to several pools, by its routes. Settings are
-- as the core has them.
alter table listeners alter column pool drop not null,
    add column settings   jsonb,
    add column revision   bigint      not null default 1,
    add column created_at timestamptz not null default now();
update listeners set settings = jsonb_build_object('kind', case when certificate = '' then 'http' else 'https' end,
    'certificates', case when certificate = '' then '[]'::jsonb else jsonb_build_array(certificate) end, 'http2', certificate <> '',
    'limits', '{"head": 30000000000, "idle": 120000000000, "quiet": 3600000000000, "request": 0, "head_bytes": 65536, "body_bytes": 0, "connections": 0, "connections_per_second": 0, "requests_per_second": 0}'::jsonb,
    'log', '{"keep": "failures"}'::jsonb);
alter table listeners alter column settings set not null, drop column certificate;
alter table pools add column targets jsonb not null default '{}';

-- A group may heal by how its pools judge its instances; no check has that name any more.
insert into checks select (jsonb_populate_record(null::checks, to_jsonb(c) || '{"name": "traffic-check"}')).* from checks c where name = 'traffic';
update pools set "check" = 'traffic-check' where "check" = 'traffic';
update groups set heal = 'traffic-check' where heal = 'traffic';
delete from checks where name = 'traffic';
alter table groups drop constraint groups_heal_check, drop column heal_check;
alter table groups add column heal_check text generated always as (case when heal in ('off', 'machine', 'traffic') then null else heal end) stored;
alter table groups add constraint groups_heal_check foreign key (heal_check) references checks (name);

-- What is signed with, the same for all services of a database.
create table keys (
    name  text  primary key,
    value bytea not null
);

-- +goose Down
drop table keys;
update groups set heal = 'machine' where heal = 'traffic';
alter table groups drop constraint groups_heal_check, drop column heal_check;
alter table groups add column heal_check text generated always as (case when heal in ('off', 'machine') then null else heal end) stored;
alter table groups add constraint groups_heal_check foreign key (heal_check) references checks (name);
alter table pools drop column targets;
delete from listeners where pool is null;
alter table listeners add column certificate text not null default '';
update listeners set certificate = coalesce(settings -> 'certificates' ->> 0, '');
alter table listeners drop column settings, drop column revision, drop column created_at, alter column pool set not null;
