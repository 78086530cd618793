-- +goose Up
-- Two cases may have one name, if nobody is in both: a name that is taken says nothing about the cases of others. Each member calls a case by its name, or
-- by one with a number after it, if the member calls another one so already. gone is set while the case is deleted.
alter table members
    add column called text,
    add column gone boolean not null default false;
update members m set called = c.name, gone = c.deleted_at is not null from cases_all c where c.id = m.case_id;
alter table members alter column called set not null;
create unique index members_called on members (person_id, called) where not gone;
drop index cases_name;
create index cases_name on cases_all (name);

-- +goose StatementBegin
create function member_called() returns trigger language plpgsql as $$
declare
    base text;
    n integer := 1;
begin
    if new.called is not null then
        return new;
    end if;
    select name into base from cases_all where id = new.case_id;
    new.called := base;
    while exists (select from members where person_id = new.person_id and called = new.called and not gone and case_id <> new.case_id) loop
        n := n + 1;
        new.called := base || '-' || n;
    end loop;
    return new;
end $$;
-- +goose StatementEnd
create trigger member_called before insert on members for each row execute function member_called();

-- +goose Down
drop trigger member_called on members;
drop function member_called;
drop index members_called, cases_name;
alter table members drop column called, drop column gone;
create unique index cases_name on cases_all (name) where deleted_at is null;
