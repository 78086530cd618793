module panics

go 1.26.0
