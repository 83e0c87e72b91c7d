module hodstone

go 1.26.8
