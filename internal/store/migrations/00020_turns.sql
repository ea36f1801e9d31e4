-- +goose Up
-- Fresh machines that people ask for come one after another.
alter table instances add column awaits boolean not null default false;
insert into needs (migration, oldest, release) values (20, 17, 'v0.1.0');

-- +goose Down
alter table instances drop column awaits;
delete from needs where migration = 20;
