module uncalled

go 1.24
