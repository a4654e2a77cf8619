-- +goose Up
-- What a party was handed, keys masked: what has changed since is told line by line.
alter table handed add column content jsonb not null default '{}';

-- +goose Down
alter table handed drop column content;
