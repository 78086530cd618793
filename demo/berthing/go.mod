module berthing

go 1.26
