-- +goose Up
create table artifacts (
    id          bigint generated always as identity primary key,
    case_id     bigint not null references cases on delete cascade,
    name        text not null,
    kind        text not null check (kind in ('binary', 'debug-file', 'source')),
    bytes       bigint not null,
    sha256      text not null,
    build_id    text not null default '',
    uploaded_at timestamptz not null,
    person_id   bigint not null references people,
    unique (case_id, name)
);

-- +goose Down
drop table artifacts;
