module zygos

go 1.26.8

require (
	github.com/klauspost/compress v1.20.3
	github.com/stretchr/testify v1.12.1
	golang.org/x/sys v0.49.0
)

require go.yaml.in/yaml/v3 v3.0.5 // indirect
