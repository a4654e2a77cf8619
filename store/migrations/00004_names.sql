-- +goose Up
-- A rename of the design is in its journal too.
alter table changes drop constraint changes_act_check;
alter table changes add constraint changes_act_check check (act in ('edit', 'undo', 'redo', 'reveal', 'rename'));

-- What a party was handed last: the checksum of every file, keys masked.
create table handed (
    design text not null references designs on delete cascade,
    party  text not null,
    at     timestamptz not null default now(),
    author text not null,
    files  jsonb not null,
    primary key (design, party)
);

-- +goose Down
drop table handed;
delete from changes where act = 'rename';
alter table changes drop constraint changes_act_check;
alter table changes add constraint changes_act_check check (act in ('edit', 'undo', 'redo', 'reveal'));
