module lent

go 1.24
