-- +goose Up
alter table groups
    add column shed            text        not null default 'outdated',
    add column heal_limit      integer     not null default 30,
    add column pin_new         boolean     not null default false,
    add column labels          jsonb       not null default '{}',
    add column frozen          text        not null default '',
    add column frozen_by       text        not null default '',
    add column frozen_at       timestamptz,
    add column owing           integer     not null default 0,
    add column heal_stopped_at timestamptz,
    add column heal_permit_at  timestamptz;

-- +goose Down
alter table groups drop column shed, drop column heal_limit, drop column pin_new, drop column labels, drop column frozen,
    drop column frozen_by, drop column frozen_at, drop column owing, drop column heal_stopped_at, drop column heal_permit_at;
