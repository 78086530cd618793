-- +goose Up
create table expectations (
    id         bigint generated always as identity primary key,
    case_id    bigint not null references cases on delete cascade,
    checkpoint text not null,
    text       text not null,
    condition  text not null,
    that       text not null,
    note       text not null,
    version    bigint not null,
    person_id  bigint not null references people,
    created_at timestamptz not null
);
create index on expectations (case_id);

-- What evidence answered to an expectation, and to which version of it.
create table checks (
    evidence_id    bigint not null references evidence on delete cascade,
    expectation_id bigint not null references expectations on delete cascade,
    version        bigint not null,
    breaks         bigint not null,
    answer         text not null,
    primary key (evidence_id, expectation_id)
);
create index on checks (expectation_id);

alter table checkpoints add column version bigint not null default 1;
create table counts (
    evidence_id   bigint not null references evidence on delete cascade,
    checkpoint_id bigint not null references checkpoints on delete cascade,
    version       bigint not null,
    hits          bigint not null,
    undecided     bigint not null,
    trouble       text not null,
    primary key (evidence_id, checkpoint_id)
);
create index on counts (checkpoint_id);

alter table cases
    add column closed_at timestamptz,
    add column cause     text not null default '',
    add column closer_id bigint references people;

-- +goose Down
alter table cases drop column closed_at, drop column cause, drop column closer_id;
drop table counts, checks, expectations;
alter table checkpoints drop column version;
