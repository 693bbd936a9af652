module example.com/genarch/standin

go 1.26.0

require (
	github.com/dolthub/vitess v0.0.0-20250512224608-8fb9c6ea092c
	github.com/go-sql-driver/mysql v1.10.1
	github.com/golang-sql/civil v0.0.0-20220223132316-b832511892a9
	github.com/golang-sql/sqlexp v0.1.0
	github.com/microsoft/go-mssqldb v1.11.2
)

require (
	filippo.io/edwards25519 v1.2.0 // indirect
	github.com/golang/protobuf v1.5.0 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/shopspring/decimal v1.4.0 // indirect
	golang.org/x/crypto v0.55.0 // indirect
	golang.org/x/text v0.41.0 // indirect
	google.golang.org/genproto v0.0.0-20190926190326-7ee9db18f195 // indirect
	google.golang.org/grpc v1.24.0 // indirect
	google.golang.org/protobuf v1.27.1 // indirect
)
