module example.com/genarch/standin

go 1.26.0

require (
	github.com/dolthub/vitess v0.0.0-20250512224608-8fb9c6ea092c
	github.com/go-sql-driver/mysql v1.10.1
)

require (
	filippo.io/edwards25519 v1.2.0 // indirect
	github.com/golang/protobuf v1.5.0 // indirect
	google.golang.org/genproto v0.0.0-20190926190326-7ee9db18f195 // indirect
	google.golang.org/grpc v1.24.0 // indirect
	google.golang.org/protobuf v1.27.1 // indirect
)
