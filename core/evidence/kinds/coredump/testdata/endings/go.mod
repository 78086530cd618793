module endings

go 1.26.0
