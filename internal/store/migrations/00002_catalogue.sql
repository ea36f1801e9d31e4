-- +goose Up
-- Numbers of versions are never given twice, whatever is deleted.
create table counters (
    kind text    not null,
    name text    not null,
    last integer not null,
    primary key (kind, name)
);
insert into counters select 'image', name, max(version) from images group by name;
insert into counters select 'template', name, max(version) from templates group by name;

alter table images
    add column origin         text        not null default 'imported',
    add column source         text        not null default '',
    add column parent         text        not null default '',
    add column parent_version integer     not null default 0,
    add column labels         jsonb       not null default '{}',
    add column environment    jsonb       not null default '{}',
    add column recipe         text        not null default '',
    add column step           text        not null default '',
    add column why            text        not null default '',
    add column successor      text        not null default '',
    -- places are the regions that have it whole, each with since and from.
    add column places         jsonb       not null default '{}',
    add column replica        text        not null default '',
    add column revision       bigint      not null default 1;
create index images_of_state on images (state, name, version desc);
create index images_labels on images using gin (labels jsonb_path_ops);
create index images_parent on images (parent, parent_version) where parent <> '';
create index images_by_age on images (created_at);

create table copies (
    name        text        not null,
    version     integer     not null,
    region      text        not null,
    from_region text        not null,
    state       text        not null,
    done_bytes  bigint      not null default 0,
    total_bytes bigint      not null,
    why         text        not null default '',
    actor       text        not null,
    replica     text        not null,
    began_at    timestamptz not null,
    ended_at    timestamptz,
    primary key (name, version, region),
    foreign key (name, version) references images (name, version) on delete cascade
);

alter table templates
    add column cpus           double precision not null default 1,
    add column memory_bytes   bigint           not null default 268435456,
    add column disk_bytes     bigint           not null default 1073741824,
    add column addresses      integer          not null default 1,
    add column ports          jsonb            not null default '[]',
    add column price_per_hour double precision not null default 0,
    add column interruptible  boolean          not null default false,
    add column revised_from   integer          not null default 0,
    add column state          text             not null default 'ready',
    add column why            text             not null default '',
    add column successor      text             not null default '',
    add column revision       bigint           not null default 1;
create index templates_of_image on templates (image, image_version);

create table marks (
    kind    text    not null,
    name    text    not null,
    mark    text    not null,
    version integer not null,
    primary key (kind, name, mark)
);
create table mark_moves (
    number       bigint      generated always as identity primary key,
    kind         text        not null,
    name         text        not null,
    mark         text        not null,
    from_version integer     not null,
    to_version   integer     not null,
    at           timestamptz not null,
    actor        text        not null
);
create index mark_moves_of on mark_moves (kind, name, number desc);

-- A group that is alone is one instance that a person launched.
alter table groups
    add column alone     boolean not null default false,
    add column overrides jsonb   not null default '{}';
alter table instances add column overrides jsonb not null default '{}';
create index instances_of_template on instances (template, template_version) where state <> 'gone';

-- +goose Down
drop table marks, mark_moves, copies, counters;
alter table images drop column origin, drop column source, drop column parent, drop column parent_version, drop column labels,
    drop column environment, drop column recipe, drop column step, drop column why, drop column successor, drop column places,
    drop column replica, drop column revision;
alter table templates drop column cpus, drop column memory_bytes, drop column disk_bytes, drop column addresses, drop column ports,
    drop column price_per_hour, drop column interruptible, drop column revised_from, drop column state, drop column why,
    drop column successor, drop column revision;
alter table groups drop column alone, drop column overrides;
alter table instances drop column overrides;
