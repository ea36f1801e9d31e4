-- +goose Up

-- The gates of a rollout with what they had seen when it last changed, and why it goes back.
alter table rollouts
    add column gates jsonb not null default '[]',
    add column turned jsonb not null default '{}';
