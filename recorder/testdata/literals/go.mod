module literals

go 1.24
