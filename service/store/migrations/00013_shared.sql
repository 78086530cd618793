-- +goose Up
-- What a sitting shares beside its place and expressions: the columns of the ledger, and how whole numbers are written.
alter table sittings
    add column columns text not null default '[]',
    add column format  text not null default '';

-- A private checkpoint is its person's alone.
alter table checkpoints add column is_private boolean not null default false;

-- Set when people have been told of evidence: a failure is known from then on.
alter table evidence add column has_arrived boolean not null default false;
update evidence set has_arrived = true where state = 'ready';

-- +goose Down
alter table evidence drop column has_arrived;
delete from checkpoints where is_private;
alter table checkpoints drop column is_private;
alter table sittings drop column columns, drop column format;
