-- +goose Up
-- A service that ends gives its leases up first and stays known while its requests end: it has no
-- share of the groups then, and no target is stopped under it.
alter table replicas add column stopping boolean not null default false;

-- +goose Down
alter table replicas drop column stopping;
