generate:
	go tool oapi-codegen -config internal/httpapi/contract/generate.yaml api/openapi.yaml
	go tool oapi-codegen -config internal/apiclient/generate.yaml api/openapi.yaml
	go tool oapi-codegen -config internal/cloud/adapter/generate.yaml api/adapter.yaml
	go tool oapi-codegen -config internal/paddock/adapter/generate.yaml api/adapter.yaml
	cd console && npm run --silent generate
