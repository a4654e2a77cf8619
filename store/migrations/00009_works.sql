-- +goose Up
-- What is planned is part of a named change. A row of the journal says of which, what it plans of it, or that it takes it
-- out of the plan or in again; null: it plans nothing.
alter table changes add column work jsonb;
create table works (
    design text not null references designs (id) on delete cascade,
    id text not null,
    title text not null,
    author text not null,
    why text not null,
    at timestamptz not null default now(),
    primary key (design, id)
);

-- The order of work as it was handed out at a position of the journal, of all work or of one change: what a step says
-- stays while others are done.
create table books (
    design text not null references designs (id) on delete cascade,
    change text not null,
    position bigint not null,
    book jsonb not null,
    primary key (design, change)
);

-- A step that is done keeps its number, and what boxes had before it, should it be taken back.
alter table ticks add column n int not null default 0;
alter table ticks add column loaded jsonb not null default '{}';
alter table ticks add column work boolean not null default true;
update loaded set files = jsonb_build_object('files', files, 'prepared', '[]'::jsonb);

-- +goose Down
update loaded set files = files -> 'files';
alter table ticks drop column work;
alter table ticks drop column loaded;
alter table ticks drop column n;
drop table books;
drop table works;
alter table changes drop column work;
