# make demo        run the demo (ONCE=1: send the shipped files, print a table, end)
# make test        run all tests
# make build       build the console and bin/ydrion
# make soak        run the tests with deaths and faults, long (about half an hour)
# make fuzz        look for inputs that break what reads, checks and writes, FUZZ=1m each
# make bench       run the benchmarks that stand next to the code
# make profile     record anew what the core is compiled by, when it has changed a lot
# make screenshots take the console's pictures anew
# make api         write the OpenAPI document and the console's types anew

SOURCES := $(shell find console/src console/public console/index.html console/*.json console/*.ts -type f 2>/dev/null)

# As the program is built (scripts/build), so that all is compiled once.
export CGO_ENABLED := 0

# Tests write many small files: into memory, where there is plenty of it.
ROOMY := $(shell df -k --output=avail /dev/shm 2>/dev/null | awk 'NR == 2 && $$1 > 4000000 {print "/dev/shm"}')

.PHONY: demo test soak fuzz build bench profile screenshots api postgresql chromium openssh-sftp-server vsftpd dovecot-imapd apache2-bin exim4-daemon-light clean

demo: build
	@bin/ydrion demo $(if $(filter 1,$(ONCE)),--once)

test: postgresql chromium openssh-sftp-server vsftpd dovecot-imapd apache2-bin exim4-daemon-light console/dist/index.html
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	go vet ./...
	$(if $(ROOMY),TMPDIR=$(ROOMY)) go test -timeout 20m $(TESTFLAGS) ./...

build: postgresql console/dist/index.html
	@scripts/build bin/ydrion

soak: postgresql
	$(if $(ROOMY),TMPDIR=$(ROOMY)) go test ./e2e -count=1 -v -timeout 90m -run 'Crash|Killed|Paused|Power|Cut|Full|ReadOnly|Dies|Order|InEffect|Hostile|FirstStart|Share|Silent' -soak $(TESTFLAGS)

# An input that is new is made smaller by three tries, not for a minute: that is most of the time otherwise.
FUZZ := 1m
fuzz:
	@grep -rn '^func Fuzz' --include=*_test.go core | sed -E 's|^(.*)/[^/]*:[0-9]+:func (Fuzz[A-Za-z0-9]*).*|\1 \2|' | while read -r room name; do \
		echo "$$name of $$room"; go test "./$$room" -run '^$$' -fuzz "^$$name\$$" -fuzztime $(FUZZ) -fuzzminimizetime 3x || exit 1; done

bench:
	go test -run '^$$' -bench . -benchmem ./core/... ./service

# The profile that scripts/build compiles the core by, of the benchmarks of whole routes.
profile:
	go test ./core/flow -run '^$$' -bench 'Rows|Messages|Nested/(list|lines)$$' -benchtime 4s -trimpath -cpuprofile $(CURDIR)/core/profile.pgo -o /dev/null

screenshots: postgresql chromium console/dist/index.html
	@mkdir -p docs/screenshots
	go test ./e2e -count=1 -parallel 1 -run 'Console|Pictures' -screenshots $(CURDIR)/docs/screenshots

api: console/node_modules/.package-lock.json
	@scripts/build bin/ydrion
	bin/ydrion openapi > docs/openapi.json
	cd console && npm run --silent types

postgresql chromium openssh-sftp-server:
	@scripts/need $@

vsftpd dovecot-imapd apache2-bin exim4-daemon-light:
	@scripts/need $@ || echo "the tests go on without $@"

console/node_modules/.package-lock.json: console/package-lock.json
	@echo "fetching the console's packages"
	@cd console && npm ci --silent --no-progress
	@touch $@

console/dist/index.html: console/node_modules/.package-lock.json $(SOURCES)
	@echo "building the console"
	@cd console && npm run --silent build -- --logLevel warn
	@touch $@

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules
