module pilotd

go 1.26.0
