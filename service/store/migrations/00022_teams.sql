-- +goose Up
-- Cases belong to teams: who is in a team has the team's role in all of its cases. role and unmasks of a member are what holds: the most of what the
-- person was given in the case (own_role is null if nothing) and has by teams. The roles sort by their rights: lead, member, viewer.
create table teams (
    id bigint generated always as identity primary key,
    name text not null unique,
    created_at timestamptz not null default now()
);
create table team_members (
    team_id bigint not null references teams on delete cascade,
    person_id bigint not null references people,
    role text not null check (role in ('lead', 'member', 'viewer')),
    unmasks boolean not null default false,
    primary key (team_id, person_id)
);
create index on team_members (person_id);
create table team_cases (
    team_id bigint not null references teams on delete cascade,
    case_id bigint not null references cases_all on delete cascade,
    primary key (team_id, case_id)
);
create index on team_cases (case_id);
alter table members
    add column own_role text check (own_role in ('lead', 'member', 'viewer')),
    add column own_unmasks boolean not null default false;
update members set own_role = role, own_unmasks = unmasks;

-- Whoever has the secret of an invitation joins a case or a team.
create table invitations (
    id bigint generated always as identity primary key,
    secret_hash bytea not null unique,
    case_id bigint references cases_all on delete cascade,
    team_id bigint references teams on delete cascade,
    person_id bigint not null references people,
    role text not null check (role in ('lead', 'member', 'viewer')),
    unmasks boolean not null,
    makes_accounts boolean not null,
    places integer not null check (places >= 0),
    created_at timestamptz not null default now(),
    expires_at timestamptz not null,
    check (num_nonnulls(case_id, team_id) = 1)
);
create index on invitations (case_id);
create index on invitations (team_id);

-- +goose Down
drop table invitations, team_cases, team_members, teams;
delete from members where own_role is null;
update members set role = own_role, unmasks = own_unmasks;
alter table members drop column own_role, drop column own_unmasks;
