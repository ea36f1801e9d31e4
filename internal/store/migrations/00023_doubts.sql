-- +goose Up
-- A group remembers which versions it was kept or taken back from: a revert brings none of them back.
alter table groups add column doubted jsonb not null default '[]';
comment on column groups.doubted is 'book: kept by the service';
insert into needs (migration, oldest, release) values (23, 17, 'v0.1.0');

-- +goose Down
alter table groups drop column doubted;
delete from needs where migration = 23;
