module sampled

go 1.24
