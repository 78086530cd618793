module synced

go 1.26.0
