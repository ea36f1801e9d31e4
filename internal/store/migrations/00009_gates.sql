-- +goose Up

-- The gates of a rollout with what they had seen when it last changed.
alter table rollouts add column gates jsonb not null default '[]';
