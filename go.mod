module wardicon

go 1.26.0

require (
	github.com/ccojocar/zxcvbn-go v1.0.4
	github.com/google/go-cmp v0.7.0
	github.com/google/uuid v1.6.0
	github.com/micromdm/plist v0.2.2
)

require (
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/stretchr/testify v1.12.1 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/sync v0.24.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
