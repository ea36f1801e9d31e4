-- +goose Up
-- From here on each change of the tables names the oldest release that can use them: by the last
-- change that it knows, for programs, and by its name, for people. Services say what they know, so
-- that nothing is taken away from one that is up.
create table needs (
    migration bigint primary key,
    oldest    bigint not null,
    release   text   not null
);
alter table replicas add column knows bigint not null default 0;
insert into needs (migration, oldest, release) values (17, 16, 'v0.1.0');

-- +goose Down
drop table needs;
alter table replicas drop column knows;
