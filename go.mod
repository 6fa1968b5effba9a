module tollgate.example/key

go 1.26.0

ignore ./console/node_modules

require (
	filippo.io/age v1.3.2
	github.com/boombuler/barcode v1.1.0
	github.com/chromedp/cdproto v0.159.2
	github.com/chromedp/chromedp v0.23.0
	github.com/coreos/go-oidc/v3 v3.21.0
	github.com/danielgtaylor/huma/v2 v2.37.2
	github.com/gaissmai/bart v0.30.0
	github.com/go-asn1-ber/asn1-ber v1.5.8
	github.com/go-chi/chi/v5 v5.5.0
	github.com/go-jose/go-jose/v4 v4.1.4
	github.com/go-ldap/ldap/v3 v3.4.15
	github.com/goccy/go-yaml v1.19.2
	github.com/hashicorp/go-hclog v1.6.3
	github.com/jimlambrt/gldap v0.1.14
	github.com/jmoiron/sqlx v1.4.0
	github.com/klauspost/compress v1.20.4
	github.com/miekg/dns v1.1.73
	github.com/pion/dtls/v3 v3.1.15
	github.com/pion/transport/v5 v5.0.0
	github.com/pquerna/otp v1.5.0
	github.com/pressly/goose/v3 v3.29.0
	go.yaml.in/yaml/v3 v3.0.5
	golang.org/x/crypto v0.58.0
	golang.org/x/oauth2 v0.38.0
	golang.org/x/sync v0.24.0
	golang.org/x/term v0.47.0
	modernc.org/sqlite v1.61.1
	software.sslmate.com/src/go-pkcs12 v0.7.4
)

require (
	filippo.io/hpke v0.4.0 // indirect
	github.com/Azure/go-ntlmssp v0.1.1 // indirect
	github.com/BurntSushi/toml v1.4.1-0.20240526193622-a339e1f7089c // indirect
	github.com/dustin/go-humanize v1.1.0 // indirect
	github.com/fatih/color v1.17.0 // indirect
	github.com/go-json-experiment/json v0.0.0-20260213210345-44df1a37e875 // indirect
	github.com/google/uuid v1.6.0 // indirect
	github.com/mattn/go-colorable v0.1.14 // indirect
	github.com/mattn/go-isatty v0.0.24 // indirect
	github.com/mfridman/interpolate v0.0.2 // indirect
	github.com/ncruces/go-strftime v1.1.0 // indirect
	github.com/pion/logging v0.2.4 // indirect
	github.com/remyoudompheng/bigfft v0.0.0-20230129092748-24d4a6f8daec // indirect
	github.com/sethvargo/go-retry v0.5.0 // indirect
	github.com/stretchr/testify v1.12.1 // indirect
	go.uber.org/multierr v1.11.0 // indirect
	golang.org/x/exp/typeparams v0.0.0-20231108232855-2478ac86f678 // indirect
	golang.org/x/mod v0.42.0 // indirect
	golang.org/x/net v0.61.0 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/tools v0.52.0 // indirect
	honnef.co/go/tools v0.8.2 // indirect
	modernc.org/libc v1.79.0 // indirect
	modernc.org/mathutil v1.7.1 // indirect
	modernc.org/memory v1.12.1 // indirect
)

tool honnef.co/go/tools/cmd/staticcheck
