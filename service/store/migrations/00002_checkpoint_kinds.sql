-- +goose Up
alter table checkpoints
    add column kind     text not null default 'line' check (kind in ('line', 'enter', 'return', 'error', 'output', 'write')),
    add column function text not null default '',
    add column about    text not null default '',
    add column nth      text not null default '',
    add column thread   bigint not null default 0,
    add column listing  boolean not null default false,
    add column show     text not null default '[]',
    add column evidence text not null default '',
    add column moment   bigint not null default 0,
    add column frame    integer not null default 0;

-- +goose Down
alter table checkpoints drop column kind, drop column function, drop column about, drop column nth,
    drop column thread, drop column listing, drop column show,
    drop column evidence, drop column moment, drop column frame;
