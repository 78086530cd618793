-- +goose Up
-- The record of who did what is a chain of hashes: docs/formats/custody.md describes it, core/custody checks it. Entries without a case are about the
-- service; those without a person are by whoever operates it. Reads are entries too.
alter table custody
    alter column case_id drop not null,
    alter column person_id drop not null,
    add column number bigint,
    add column by_name text not null default '',
    add column is_read boolean not null default false,
    add column hash bytea not null default '';

-- +goose StatementBegin
do $$
declare
    e record;
    of bigint := -1;
    last bigint;
    before bytea;
begin
    for e in select c.id, c.case_id, c.at, c.what, p.name from custody c join people p on p.id = c.person_id order by c.case_id, c.id loop
        if e.case_id <> of then
            of := e.case_id;
            last := 0;
            before := '';
        end if;
        last := last + 1;
        before := sha256(convert_to(format(E'wraith-custody-1\n%s\n%s\n%s\nchange\n%s\n%s:%s\n%s', of, last, (extract(epoch from e.at) * 1000000)::bigint,
            encode(before, 'hex'), octet_length(e.name), e.name, e.what), 'UTF8'));
        update custody set number = last, by_name = e.name, hash = before where id = e.id;
    end loop;
end $$;
-- +goose StatementEnd

alter table custody alter column number set not null;
create unique index custody_number on custody (coalesce(case_id, 0), number);
create index custody_changes on custody (case_id, id) where not is_read;

-- Records whose end is still to be signed. They refer to nothing: a case can be gone.
create table custody_due (
    record bigint primary key,
    number bigint not null
);
insert into custody_due (record, number) select case_id, max(number) from custody group by case_id;

-- Nobody changes the record by mistake. Only with its case it is deleted for good.
-- +goose StatementBegin
create function custody_stays() returns trigger language plpgsql as $$
begin
    if tg_op = 'DELETE' and current_setting('wraith.purges', true) = 'yes' then
        return old;
    end if;
    raise exception 'the record of who did what cannot be changed';
end $$;
-- +goose StatementEnd
create trigger custody_stays before update or delete on custody for each row execute function custody_stays();

-- +goose Down
drop trigger custody_stays on custody;
drop function custody_stays;
drop table custody_due;
drop index custody_changes, custody_number;
delete from custody where case_id is null or person_id is null or is_read;
alter table custody
    alter column case_id set not null,
    alter column person_id set not null,
    drop column number, drop column by_name, drop column is_read, drop column hash;
