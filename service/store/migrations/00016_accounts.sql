-- +goose Up
-- Accounts can be disabled and removed; sessions and tokens are listed, end by themselves, and can be ended. Everybody signs in again: only the hashes of
-- sessions are kept from now on.
alter table people
    add column disabled_at timestamptz,
    add column removed_at timestamptz;

alter table tokens
    add column scope text not null default 'write' check (scope in ('read', 'write', 'ingest')),
    add column expires_at timestamptz,
    add column used_at timestamptz;
create index on tokens (person_id);

delete from sessions;
alter table sessions
    add column id bigint generated always as identity unique,
    add column person_id bigint references people on delete cascade,
    add column created_at timestamptz not null default now(),
    add column used_at timestamptz not null default now();
create index on sessions (person_id);

-- +goose Down
alter table sessions drop column id, drop column person_id, drop column created_at, drop column used_at;
alter table tokens drop column scope, drop column expires_at, drop column used_at;
alter table people drop column disabled_at, drop column removed_at;
