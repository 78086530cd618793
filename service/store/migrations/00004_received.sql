-- +goose Up
create table senders (
    id          bigint generated always as identity primary key,
    case_id     bigint not null references cases on delete cascade,
    person_id   bigint not null references people,
    label       text not null,
    secret_hash bytea not null unique,
    created_at  timestamptz not null
);
alter table evidence add column fingerprint text not null default '';
alter table evidence add column clock_offset_ns bigint not null default 0;
alter table evidence add column read_as text not null default '';
alter table evidence add column fields text;
create index evidence_fingerprint on evidence (fingerprint) where fingerprint <> '';

-- +goose Down
drop index evidence_fingerprint;
alter table evidence drop column fields;
alter table evidence drop column read_as;
alter table evidence drop column clock_offset_ns;
alter table evidence drop column fingerprint;
drop table senders;
