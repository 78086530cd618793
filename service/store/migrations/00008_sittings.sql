-- +goose Up
-- The lead of a sitting survives a restart. Steps are who went where, to play a sitting back.
alter table sittings
    add column leader_id bigint references people,
    add column watches   text not null default '[]';
create table sitting_steps (
    id         bigint generated always as identity primary key,
    sitting_id bigint not null references sittings on delete cascade,
    person_id  bigint not null references people,
    at         timestamptz not null,
    kind       text not null,
    moment     bigint not null,
    thread     bigint not null,
    frame      integer not null,
    text       text not null
);
create index on sitting_steps (sitting_id, id);

-- +goose Down
drop table sitting_steps;
alter table sittings drop column leader_id, drop column watches;
