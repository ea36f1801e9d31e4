-- +goose Up
-- Records that were restored from a backup: nothing is done to machines until a person says so.
create table restored (
    one   boolean     primary key default true check (one),
    taken timestamptz not null,
    at    timestamptz not null
);
insert into needs (migration, oldest, release) values (21, 17, 'v0.1.0');

-- +goose Down
drop table restored;
delete from needs where migration = 21;
