-- +goose Up
-- A case is found by any part of a text in it, among 100,000 of them.
create extension if not exists pg_trgm;
create index on members (person_id, case_id);
create index on cases using gin ((name || ' ' || title || ' ' || cause) gin_trgm_ops);
create index on evidence using gin ((name || ' ' || program || ' ' || outcome) gin_trgm_ops);
create index on evidence (program, case_id);
create index on theories using gin (text gin_trgm_ops);

-- +goose Down
drop index members_person_id_case_id_idx, cases_expr_idx, evidence_expr_idx, evidence_program_case_id_idx, theories_text_idx;
drop extension pg_trgm;
