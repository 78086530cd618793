-- +goose Up
-- How often evidence was to be indexed: what an earlier time found does not replace what a later one does.
alter table evidence add column asked bigint not null default 0;

-- +goose Down
alter table evidence drop column asked;
