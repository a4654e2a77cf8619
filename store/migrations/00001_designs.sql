-- +goose Up
create table designs (
    id         text primary key,
    name       text not null,
    position   bigint not null default 0,
    created_at timestamptz not null default now(),
    updated_at timestamptz not null default now()
);

create table objects (
    design text not null references designs on delete cascade,
    id     text not null,
    kind   text not null,
    parent text not null,
    name   text not null,
    body   jsonb not null,
    primary key (design, id)
);

-- The journal. An undo or redo is a row of its own that names the row it acts
-- on; state says whether a row of act 'edit' is in force (done), taken back
-- (undone), or taken back and then overtaken by another edit (dropped).
create table changes (
    design   text not null references designs on delete cascade,
    position bigint not null,
    at       timestamptz not null default now(),
    author   text not null,
    reason   text not null,
    act      text not null check (act in ('edit', 'undo', 'redo', 'reveal')),
    target   bigint,
    state    text not null default 'done' check (state in ('done', 'undone', 'dropped')),
    edits    jsonb not null,
    inverse  jsonb not null,
    primary key (design, position)
);

-- Pre-shared keys, sealed with a key that is kept outside the database.
create table secrets (
    design text not null references designs on delete cascade,
    object text not null,
    sealed bytea not null,
    primary key (design, object)
);

-- +goose Down
drop table secrets;
drop table changes;
drop table objects;
drop table designs;
