module unassigned

go 1.26.0
