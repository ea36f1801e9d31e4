-- +goose Up
-- A machine that forks without end takes no more of the host than its template gives it.
alter table templates add column processes int not null default 512;
insert into needs (migration, oldest, release) values (19, 17, 'v0.1.0');

-- +goose Down
alter table templates drop column processes;
delete from needs where migration = 19;
