module waits

go 1.23
