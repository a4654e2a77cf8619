-- +goose Up
-- Who looked at keys. Looking changes nothing, so it moves no position.
create table audits (
    id       bigint generated always as identity primary key,
    design   text not null references designs on delete cascade,
    position bigint not null,
    at       timestamptz not null default now(),
    author   text not null,
    reason   text not null
);
create index on audits (design, position);

-- +goose Down
drop table audits;
