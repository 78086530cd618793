-- +goose Up
create table people (
    id            bigint generated always as identity primary key,
    name          text not null unique,
    password_hash text not null,
    admin         boolean not null default false,
    created_at    timestamptz not null
);

create table tokens (
    id          bigint generated always as identity primary key,
    person_id   bigint not null references people on delete cascade,
    label       text not null,
    secret_hash bytea not null unique,
    created_at  timestamptz not null
);

create table sessions (
    token  text primary key,
    data   bytea not null,
    expiry timestamptz not null
);
create index on sessions (expiry);

create table cases (
    id         bigint generated always as identity primary key,
    name       text not null unique,
    title      text not null,
    created_at timestamptz not null
);

create table members (
    case_id   bigint not null references cases on delete cascade,
    person_id bigint not null references people on delete cascade,
    role      text not null check (role in ('lead', 'member', 'viewer')),
    primary key (case_id, person_id)
);

create table evidence (
    id          bigint generated always as identity primary key,
    case_id     bigint not null references cases on delete cascade,
    name        text not null,
    kind        text not null,
    bytes       bigint not null,
    sha256      text not null,
    uploaded_at timestamptz not null,
    person_id   bigint not null references people,
    state       text not null check (state in ('indexing', 'ready', 'failed')),
    progress    double precision not null default 0,
    trouble     text not null default '',
    program     text not null default '',
    build_id    text not null default '',
    host        text not null default '',
    started     timestamptz not null,
    duration_ns bigint not null default 0,
    moments     bigint not null default 0,
    outcome     text not null default '',
    gaps        integer not null default 0,
    unique (case_id, name)
);

create table checkpoints (
    id         bigint generated always as identity primary key,
    case_id    bigint not null references cases on delete cascade,
    file       text not null,
    line       integer not null,
    text       text not null,
    condition  text not null,
    enabled    boolean not null,
    person_id  bigint not null references people,
    created_at timestamptz not null
);

create table sittings (
    id          bigint generated always as identity primary key,
    case_id     bigint not null references cases on delete cascade,
    evidence_id bigint not null unique references evidence on delete cascade,
    moment      bigint not null,
    thread      bigint not null,
    frame       integer not null,
    version     bigint not null
);

create table custody (
    id        bigint generated always as identity primary key,
    case_id   bigint not null references cases on delete cascade,
    person_id bigint not null references people,
    at        timestamptz not null,
    what      text not null
);

-- +goose Down
drop table custody, sittings, checkpoints, evidence, members, cases, sessions, tokens, people;
