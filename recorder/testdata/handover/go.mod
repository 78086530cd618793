module handover

go 1.24
