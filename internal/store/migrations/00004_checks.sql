-- +goose Up
alter table checks
    add column host      text    not null default '',
    add column statuses  text    not null default '200-299',
    add column body_text text    not null default '',
    add column service   text    not null default '',
    add column verify    boolean not null default true;

-- +goose Down
alter table checks drop column host, drop column statuses, drop column body_text, drop column service, drop column verify;
