#!/bin/sh
# Runs every fuzz target for the given time (20s each unless said), and ends with a failure if one of them found something.
set -u
time="${1:-20s}"
found=0
for line in $(grep -rn --include=*_test.go -o 'func Fuzz[A-Za-z]*' internal | sed 's/:[0-9]*:func /:/; s/ //g'); do
	package="./$(dirname "${line%%:*}")"
	target="${line##*:}"
	# What a handshake covers differs from run to run, so minimizing would not end.
	go test "$package" -run '^$' -fuzz "^$target\$" -fuzztime "$time" -fuzzminimizetime 1x || found=1
done
exit $found
