-- +goose Up

-- What ran beside the version that most instances ran when a rollout began: a revert brings it back.
alter table rollouts add column before jsonb;
