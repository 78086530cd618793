-- +goose Up
-- What is deleted can be restored for some time. The tables have everything; the views with the names of old have what is not deleted, so that no query
-- can forget it. A migration that adds a column to one of these tables has to make its view again.
alter table cases
    add column deleted_at timestamptz,
    add column deleter_id bigint references people,
    add column keep_days integer not null default 0 check (keep_days >= 0),
    add column keeper_id bigint references people;
alter table cases drop constraint cases_name_key;
create unique index cases_name on cases (name) where deleted_at is null;
alter table cases rename to cases_all;
create view cases as select * from cases_all where deleted_at is null;

alter table evidence
    add column deleted_at timestamptz,
    add column deleter_id bigint references people;
alter table evidence drop constraint evidence_case_id_name_key;
create unique index evidence_name on evidence (case_id, name) where deleted_at is null;
create index on evidence (sha256);
alter table evidence rename to evidence_all;
create view evidence as select * from evidence_all where deleted_at is null;

alter table artifacts
    add column deleted_at timestamptz,
    add column deleter_id bigint references people;
alter table artifacts drop constraint artifacts_case_id_name_key;
create unique index artifacts_name on artifacts (case_id, name) where deleted_at is null;
create index on artifacts (sha256);
alter table artifacts rename to artifacts_all;
create view artifacts as select * from artifacts_all where deleted_at is null;

-- +goose Down
drop view artifacts, evidence, cases;
alter table artifacts_all rename to artifacts;
alter table evidence_all rename to evidence;
alter table cases_all rename to cases;
delete from artifacts where deleted_at is not null;
delete from evidence where deleted_at is not null;
delete from cases where deleted_at is not null;
drop index artifacts_name, evidence_name, cases_name, artifacts_sha256_idx, evidence_sha256_idx;
alter table artifacts add constraint artifacts_case_id_name_key unique (case_id, name), drop column deleted_at, drop column deleter_id;
alter table evidence add constraint evidence_case_id_name_key unique (case_id, name), drop column deleted_at, drop column deleter_id;
alter table cases add constraint cases_name_key unique (name), drop column deleted_at, drop column deleter_id, drop column keep_days, drop column keeper_id;
