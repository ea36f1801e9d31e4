-- +goose Up
-- Who is told by message may ask for a header with a secret.
alter table notices add column headers jsonb not null default '{}';
insert into needs (migration, oldest, release) values (22, 17, 'v0.1.0');

-- +goose Down
alter table notices drop column headers;
delete from needs where migration = 22;
