module elements

go 1.24
