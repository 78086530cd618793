module lives

go 1.24
