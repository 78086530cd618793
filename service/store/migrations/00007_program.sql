-- +goose Up
-- Expectations are checked in evidence of the same program in other cases too.
create index on evidence (program);

-- +goose Down
drop index evidence_program_idx;
