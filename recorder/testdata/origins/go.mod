module origins

go 1.23
