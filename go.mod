module rectura

go 1.26

require (
	github.com/stretchr/testify v1.12.1
	gonum.org/v1/plot v0.17.0
	pgregory.net/rapid v1.3.0
)

require (
	codeberg.org/go-fonts/liberation v0.5.0 // indirect
	codeberg.org/go-latex/latex v0.2.0 // indirect
	git.sr.ht/~sbinet/gg v0.7.0 // indirect
	github.com/ajstarks/svgo v0.0.0-20211024235047-1546f124cd8b // indirect
	github.com/golang/freetype v0.0.0-20170609003504-e2365dfdc4a0 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/image v0.30.0 // indirect
	golang.org/x/text v0.28.0 // indirect
)
