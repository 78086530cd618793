module outbox

go 1.24
