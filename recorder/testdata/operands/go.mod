module operands

go 1.24
