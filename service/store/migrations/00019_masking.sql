-- +goose Up
-- What is secret is masked in answers, by the rules of the case; members with the right see it. All evidence is indexed again: what was found before is not
-- masked. The views are made again, because their tables have other columns.
drop view cases;
alter table cases_all
    add column mask jsonb not null default '{}',
    add column inbox_of bigint unique references people;
create view cases as select * from cases_all where deleted_at is null;

alter table members add column unmasks boolean not null default false;
update members set unmasks = true where role = 'lead';

-- The rules with which an exhibit was asked; after others it is asked again.
alter table exhibits add column masked_by text not null default '';

update evidence_all set state = 'indexing', progress = 0, asked = asked + 1 where state = 'ready';

-- An inbox belongs to a person, and not to a name.
update cases_all c set inbox_of = m.person_id from members m join people p on p.id = m.person_id
    where m.case_id = c.id and m.role = 'lead' and c.deleted_at is null and c.name = 'inbox-' || lower(replace(p.name, '.', '-'))
    and not exists (select from cases_all o join members n on n.case_id = o.id where o.id <> c.id and n.person_id = m.person_id and o.name = c.name and o.deleted_at is null);

-- +goose Down
alter table exhibits drop column masked_by;
alter table members drop column unmasks;
drop view cases;
alter table cases_all drop column mask, drop column inbox_of;
create view cases as select * from cases_all where deleted_at is null;
