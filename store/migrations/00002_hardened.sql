-- +goose Up
-- A deleted design is kept for a while, so that deleting can be taken back.
alter table designs add column deleted_at timestamptz;

-- Ours and theirs are told apart by kind. The fingerprint is keyed with the
-- vault's key and tells whether two keys are equal without opening them; where it
-- is null the key was sealed by an older version and is sealed anew at the start.
alter table secrets add column kind text not null default 'ours' check (kind in ('ours', 'theirs'));
alter table secrets add column fingerprint bytea;
alter table secrets drop constraint secrets_pkey;
update secrets s set kind = 'theirs', object = left(object, length(object) - 4)
    where object like '%#far' and not exists (select 1 from objects o where o.design = s.design and o.id = s.object);
alter table secrets add primary key (design, object, kind);

-- The key file that the secrets are sealed with, by a fingerprint of its key.
create table vault (
    one         boolean primary key default true check (one),
    fingerprint bytea not null
);

-- +goose Down
drop table vault;
delete from secrets where kind = 'theirs';
alter table secrets drop constraint secrets_pkey;
alter table secrets drop column kind, drop column fingerprint;
alter table secrets add primary key (design, object);
delete from designs where deleted_at is not null;
alter table designs drop column deleted_at;
