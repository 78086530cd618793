module invoices

go 1.24
