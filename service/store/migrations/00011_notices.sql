-- +goose Up
alter table people add column mail text not null default '';
-- Whether a member is mailed what happens in the case.
alter table members add column mailed boolean not null default true;

-- Addresses of other programs that are told what arrives in a case.
create table hooks (
    id         bigint generated always as identity primary key,
    case_id    bigint not null references cases on delete cascade,
    person_id  bigint not null references people,
    created_at timestamptz not null,
    url        text not null,
    secret     text not null,
    kinds      text not null, -- JSON list; empty for all
    ended      text not null default '' -- why nothing is sent any more
);
create index on hooks (case_id);

-- What people and programs are told, once: the same thing about the same evidence is one notice.
create table notices (
    id          bigint generated always as identity primary key,
    case_id     bigint not null references cases on delete cascade,
    evidence_id bigint references evidence on delete cascade,
    person_id   bigint references people, -- who caused it; null for the service
    kind        text not null,
    about       bigint not null, -- a checkpoint, expectation, case, comment or person, as the kind says
    at          timestamptz not null,
    subject     text not null,
    detail      text not null,
    unique nulls not distinct (case_id, kind, evidence_id, about)
);

-- A mail or a request: one or more notices for one receiver. The key is the same at each attempt.
create table deliveries (
    id          bigint generated always as identity primary key,
    key         text not null unique,
    case_id     bigint not null references cases on delete cascade,
    person_id   bigint references people on delete cascade,
    hook_id     bigint references hooks on delete cascade,
    created_at  timestamptz not null,
    sent_at     timestamptz,
    given_up_at timestamptz,
    attempts    integer not null default 0,
    trouble     text not null default '',
    check (num_nonnulls(person_id, hook_id) = 1)
);
create index on deliveries (id) where sent_at is null and given_up_at is null;
create index on deliveries (case_id, person_id, hook_id, created_at);

create table notice_receivers (
    id          bigint generated always as identity primary key,
    notice_id   bigint not null references notices on delete cascade,
    person_id   bigint references people on delete cascade,
    hook_id     bigint references hooks on delete cascade,
    is_sent     boolean not null, -- by a delivery; otherwise the person reads it here
    delivery_id bigint references deliveries on delete cascade,
    check (num_nonnulls(person_id, hook_id) = 1),
    unique (notice_id, person_id),
    unique (notice_id, hook_id)
);
create index on notice_receivers (id) where is_sent and delivery_id is null;
create index on notice_receivers (delivery_id);
create index on notice_receivers (person_id, notice_id);

-- +goose Down
drop table notice_receivers, deliveries, notices, hooks;
alter table members drop column mailed;
alter table people drop column mail;
