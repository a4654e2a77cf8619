-- +goose Up
-- Steps of a runbook that somebody has done. A step whose edit was taken back is to be done again, whatever stands here.
create table ticks (
    design text not null references designs (id) on delete cascade,
    step text not null,
    title text not null,
    author text not null,
    at timestamptz not null default now(),
    position bigint not null,
    primary key (design, step)
);

-- Rehearsals and what happened in them. The server that plays one says again and again that it does.
create table rehearsals (
    id bigint generated always as identity primary key,
    design text not null references designs (id) on delete cascade,
    position bigint not null,
    author text not null,
    asked jsonb not null,
    file text not null,
    state text not null default 'waiting' check (state in ('waiting', 'playing', 'done', 'cancelled', 'broken-off')),
    asked_at timestamptz not null default now(),
    begun_at timestamptz,
    beat_at timestamptz,
    ended_at timestamptz,
    why text not null default '',
    report jsonb
);
create index rehearsals_of on rehearsals (design, id);
create table rehearsal_events (
    rehearsal bigint not null references rehearsals (id) on delete cascade,
    n int not null,
    event jsonb not null,
    primary key (rehearsal, n)
);

-- +goose Down
drop table rehearsal_events;
drop table rehearsals;
drop table ticks;
