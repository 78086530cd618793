module moorings

go 1.24
