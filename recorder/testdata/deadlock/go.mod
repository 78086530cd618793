module deadlock

go 1.24
