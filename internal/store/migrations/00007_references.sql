-- +goose Up

-- What is used cannot be deleted in the same moment. A rollout and an instance use a
-- template for as long as they live; the generated columns say so.
create table group_pools (
    group_name text    not null references groups (name) on delete cascade,
    pool       text    not null constraint group_pools_pool references pools (name),
    position   integer not null,
    primary key (group_name, pool)
);
create index group_pools_of on group_pools (pool);
insert into group_pools (group_name, pool, position)
    select g.name, p.pool, min(p.position) from groups g, unnest(g.pools) with ordinality p (pool, position)
    where exists (select 1 from pools where name = p.pool) group by 1, 2;
alter table groups drop column pools;

update groups set heal = 'machine' where heal not in ('off', 'machine') and not exists (select 1 from checks where name = heal);
alter table groups add column heal_check text generated always as (case when heal in ('off', 'machine') then null else heal end) stored;
alter table groups add constraint groups_heal_check foreign key (heal_check) references checks (name);

alter table rollouts
    add column live_from text generated always as (case when ended_at is null then from_name end) stored,
    add column live_to   text generated always as (case when ended_at is null then to_name end) stored;
alter table rollouts
    add constraint rollouts_from_template foreign key (live_from, from_version) references templates (name, version) not valid,
    add constraint rollouts_to_template foreign key (live_to, to_version) references templates (name, version) not valid;
alter table instances add column living_template text generated always as (case when state <> 'gone' then template end) stored;
alter table instances add constraint instances_template foreign key (living_template, template_version) references templates (name, version) not valid;
-- The image that an instance is launched with instead of its template's.
alter table groups
    add column override_image   text    generated always as (nullif(split_part(overrides->>'image', '@', 1), '')) stored,
    add column override_version integer generated always as (nullif(split_part(overrides->>'image', '@', 2), '')::integer) stored;
alter table groups add constraint groups_override_image foreign key (override_image, override_version) references images (name, version) not valid;

-- What is read of a group is found without passing those that are gone.
drop index instances_of_template;
create index instances_of_template on instances (living_template, template_version) where living_template is not null;
create index instances_present on instances (group_name, serial) where state <> 'gone';
create index instances_usual on instances (template, served_at desc) where served_at is not null;

-- What is kept for a time only, and is found by its age.
create index instances_gone on instances (since) where state = 'gone';
create index rollouts_ended on rollouts (ended_at) where ended_at is not null;
create index mark_moves_at on mark_moves (at);
create index outbox_at on outbox (at);
create index repeats_at on repeats (created_at);
alter table serials add column at timestamptz not null default now();

create sequence drills;
select setval('drills', greatest((select count(*) from journal where kind = 'drill.started'), 1),
    exists (select 1 from journal where kind = 'drill.started'));

-- +goose Down
drop sequence drills;
alter table serials drop column at;
drop index repeats_at, outbox_at, mark_moves_at, rollouts_ended, instances_gone, instances_usual, instances_present, instances_of_template;
alter table instances drop constraint instances_template, drop column living_template;
create index instances_of_template on instances (template, template_version) where state <> 'gone';
alter table rollouts drop constraint rollouts_from_template, drop constraint rollouts_to_template, drop column live_from, drop column live_to;
alter table groups drop constraint groups_heal_check, drop column heal_check, drop constraint groups_override_image,
    drop column override_image, drop column override_version, add column pools text[] not null default '{}';
update groups g set pools = coalesce((select array_agg(pool order by position) from group_pools where group_name = g.name), '{}');
drop table group_pools;
