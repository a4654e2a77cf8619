-- +goose Up
-- Whether the database takes what is written is found out by writing: a full disk reads
-- as well as ever.
create table pulse (
    id int primary key check (id = 1),
    at timestamptz not null
);

-- +goose Down
drop table pulse;
