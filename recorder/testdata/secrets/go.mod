module secrets

go 1.24
