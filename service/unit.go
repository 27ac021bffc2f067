package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/template"

	"rectura/core/logic"
	"rectura/service/device/modbus"
	"rectura/service/store"
)

// unit is a unit of systemd (systemd.service(5), systemd.exec(5)). What a plant's control does not need, it may not do.
var unit = template.Must(template.New("unit").Parse(`# Made by: rectura serve --unit. docs/operating.md says how to install it.
[Unit]
Description=Rectura: control rules in charge of plants
After=network-online.target
Wants=network-online.target
StartLimitIntervalSec=0

[Service]
Type=notify
ExecStart={{.Program}} serve --data {{.Data}} --listen {{.Listen}}{{range .Arguments}} {{.}}{{end}}
User=rectura
Group=rectura
Restart=always
RestartSec=1
WatchdogSec=30
TimeoutStopSec=10
KillMode=mixed
OOMScoreAdjust=-500
LimitNOFILE=8192
UMask=0077
{{if eq .Data "/var/lib/rectura"}}StateDirectory=rectura
StateDirectoryMode=0700
{{else}}ReadWritePaths={{.Data}}
{{end}}# where the services of a machine find each other's leases
ReadWritePaths=-/run/lock

NoNewPrivileges=yes
CapabilityBoundingSet=
AmbientCapabilities=
ProtectSystem=strict
ProtectHome=yes
PrivateTmp=yes
ProtectProc=invisible
ProtectClock=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
ProtectKernelTunables=yes
ProtectControlGroups=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
LockPersonality=yes
MemoryDenyWriteExecute=yes
RemoveIPC=yes
SystemCallArchitectures=native
SystemCallFilter=@system-service
DevicePolicy=closed
{{range .Lines}}DeviceAllow={{.}} rw
{{else}}# no job names a serial line; each would have a line DeviceAllow=/dev/ttyUSB0 rw
{{end}}{{if .Lines}}SupplementaryGroups=dialout
{{end}}
[Install]
WantedBy=multi-user.target
`))

// Unit returns a unit of systemd for a service with further arguments. It lets the service open the serial lines that the newest
// revisions of its jobs name, and no other device.
func Unit(ctx context.Context, c Config, arguments []string) (string, error) {
	program, err := os.Executable()
	if err != nil {
		return "", fmt.Errorf("finding this program: %w", err)
	}
	data, err := filepath.Abs(c.Data)
	if err != nil {
		return "", fmt.Errorf("finding the data folder: %w", err)
	}
	lines, err := serialLines(ctx, data)
	if err != nil {
		return "", err
	}
	for _, word := range slices.Concat([]string{program, data, c.Listen}, arguments, lines) {
		if strings.ContainsAny(word, " \t\n\"'%$\\;") {
			return "", fmt.Errorf("%q holds a sign that a unit takes for something else; choose a plainer name", word)
		}
	}
	var text strings.Builder
	err = unit.Execute(&text, map[string]any{"Program": program, "Data": data, "Listen": c.Listen, "Arguments": arguments, "Lines": lines})
	return text.String(), err
}

// serialLines returns the serial lines that the newest revisions of the jobs of a data folder name. A folder without jobs has none.
func serialLines(ctx context.Context, data string) (lines []string, err error) {
	file := benchFile(data)
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	st, err := store.OpenToRead(file)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	jobs, err := st.Jobs(ctx)
	if err != nil {
		return nil, err
	}
	for _, j := range jobs {
		newest, err := j.Newest(ctx)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		_, sheets, err := j.Revision(ctx, newest)
		if err != nil {
			return nil, err
		}
		_, p, _ := logic.Check(sheets)
		if p == nil {
			continue // it cannot be run, and opens nothing
		}
		for _, d := range modbus.Devices(p) {
			if d.Serial && !slices.Contains(lines, d.Address) {
				lines = append(lines, d.Address)
			}
		}
	}
	slices.Sort(lines)
	return lines, nil
}
