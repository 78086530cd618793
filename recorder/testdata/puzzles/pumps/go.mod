module pumps

go 1.24
