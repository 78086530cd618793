-- +goose Up
-- What people keep on a case. The answer of an exhibit is kept as it was seen.
create table exhibits (
    id          bigint generated always as identity primary key,
    case_id     bigint not null references cases on delete cascade,
    evidence_id bigint not null references evidence on delete cascade,
    person_id   bigint not null references people,
    created_at  timestamptz not null,
    question    text not null,
    request     text not null,
    answer      text not null,
    moment      bigint not null,
    thread      bigint not null,
    frame       integer not null,
    note        text not null
);
create index on exhibits (case_id, id);

-- A comment is about the case, evidence, a moment or span of it, a value, a line, or an exhibit.
create table comments (
    id          bigint generated always as identity primary key,
    case_id     bigint not null references cases on delete cascade,
    parent_id   bigint references comments on delete cascade,
    evidence_id bigint references evidence on delete cascade,
    exhibit_id  bigint references exhibits on delete set null,
    person_id   bigint not null references people,
    created_at  timestamptz not null,
    edited_at   timestamptz,
    deleted_at  timestamptz,
    text        text not null,
    moment      bigint,
    until       bigint,
    thread      bigint not null,
    frame       integer not null,
    path        text not null,
    file        text not null,
    line        integer not null,
    words       tsvector generated always as (to_tsvector('simple', text)) stored
);
create index on comments (case_id, id);
create index on comments (evidence_id, moment);
create index on comments using gin (words);
create table comment_edits (
    id         bigint generated always as identity primary key,
    comment_id bigint not null references comments on delete cascade,
    at         timestamptz not null,
    text       text not null
);
create index on comment_edits (comment_id, id);
create table mentions (
    comment_id bigint not null references comments on delete cascade,
    person_id  bigint not null references people,
    seen_at    timestamptz,
    primary key (comment_id, person_id)
);
create index on mentions (person_id) where seen_at is null;

create table theories (
    id         bigint generated always as identity primary key,
    case_id    bigint not null references cases on delete cascade,
    person_id  bigint not null references people,
    created_at timestamptz not null,
    changed_at timestamptz not null,
    text       text not null,
    state      text not null,
    note       text not null
);
create index on theories (case_id, id);
create table theory_exhibits (
    theory_id  bigint not null references theories on delete cascade,
    exhibit_id bigint not null references exhibits on delete cascade,
    supports   boolean not null,
    primary key (theory_id, exhibit_id)
);

-- Up to which entry of the record a member has seen what changed.
alter table members add column seen bigint not null default 0;

-- +goose Down
alter table members drop column seen;
drop table theory_exhibits, theories, mentions, comment_edits, comments, exhibits;
