module calledc

go 1.26.0
