-- +goose Up
-- What people keep has numbers of its case, which it keeps when the case is taken to another service.
alter table cases
    add column last_exhibit bigint not null default 0,
    add column last_comment bigint not null default 0,
    add column last_theory  bigint not null default 0;
alter table exhibits add column number bigint;
alter table comments add column number bigint;
alter table theories add column number bigint;
update exhibits x set number = n.number from (select id, row_number() over (partition by case_id order by id) as number from exhibits) n where n.id = x.id;
update comments x set number = n.number from (select id, row_number() over (partition by case_id order by id) as number from comments) n where n.id = x.id;
update theories x set number = n.number from (select id, row_number() over (partition by case_id order by id) as number from theories) n where n.id = x.id;
update cases c set last_exhibit = (select coalesce(max(number), 0) from exhibits where case_id = c.id),
    last_comment = (select coalesce(max(number), 0) from comments where case_id = c.id),
    last_theory = (select coalesce(max(number), 0) from theories where case_id = c.id);
alter table exhibits alter column number set not null, add unique (case_id, number);
alter table comments alter column number set not null, add unique (case_id, number);
alter table theories alter column number set not null, add unique (case_id, number);
drop index exhibits_case_id_id_idx, comments_case_id_id_idx, theories_case_id_id_idx;

-- People of another service, whose words and deeds came with an imported case. They cannot sign in.
alter table people add column origin text not null default '';
-- Nobody is told what an import brings.
alter table evidence add column is_imported boolean not null default false;
create table service_identity (id text primary key);

-- +goose Down
drop table service_identity;
alter table evidence drop column is_imported;
alter table people drop column origin;
create index on exhibits (case_id, id);
create index on comments (case_id, id);
create index on theories (case_id, id);
alter table exhibits drop column number;
alter table comments drop column number;
alter table theories drop column number;
alter table cases drop column last_exhibit, drop column last_comment, drop column last_theory;
