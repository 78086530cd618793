-- +goose Up
-- What failures are compared by: own functions of the failing stack, innermost first, and words of the message.
create table failure_functions (
    evidence_id bigint not null references evidence on delete cascade,
    depth       integer not null,
    function    text not null,
    primary key (evidence_id, depth)
);
create index on failure_functions (function, evidence_id);
create table failure_words (
    evidence_id bigint primary key references evidence on delete cascade,
    words       text not null
);

-- +goose Down
drop table failure_words, failure_functions;
