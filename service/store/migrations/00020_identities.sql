-- +goose Up
-- Whom an OpenID provider names, by its issuer and subject. Such a person needs no password.
create table identities (
    issuer     text not null,
    subject    text not null,
    person_id  bigint not null references people on delete cascade,
    created_at timestamptz not null default now(),
    primary key (issuer, subject)
);
create index on identities (person_id);

-- +goose Down
drop table identities;
