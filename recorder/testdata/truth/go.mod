module truth

go 1.23
