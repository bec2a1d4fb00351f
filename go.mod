module ambertray

go 1.26.0

require github.com/stretchr/testify v1.12.1

require (
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/text v0.43.0 // indirect
)
