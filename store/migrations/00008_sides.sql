-- +goose Up
-- An estate is kept twice: as planned and as built. What is alike in both is one row.
alter table objects add column side text not null default 'both' check (side in ('both', 'planned', 'built'));
alter table objects drop constraint objects_pkey;
alter table objects add primary key (design, id, side);

-- Up to which position the journal is of one design in which things had states; null: it still is one. What was done
-- until then is told and not taken back.
alter table designs add column divided bigint;

-- Files that boxes of one's own have, where a step elsewhere was done that they have not followed yet.
create table loaded (
    design text not null references designs (id) on delete cascade,
    box text not null,
    files jsonb not null,
    primary key (design, box)
);

-- +goose Down
drop table loaded;
alter table designs drop column divided;
delete from objects where side = 'built';
alter table objects drop constraint objects_pkey;
alter table objects add primary key (design, id);
alter table objects drop column side;
