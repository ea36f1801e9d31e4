-- +goose Up
-- Which data directory has the machines of this database: a service with another one would find none
-- of them.
create table belongs (
    one       boolean     primary key default true check (one),
    directory text        not null,
    path      text        not null,
    host      text        not null,
    since     timestamptz not null default now()
);
insert into needs (migration, oldest, release) values (18, 17, 'v0.1.0');

-- +goose Down
drop table belongs;
delete from needs where migration = 18;
