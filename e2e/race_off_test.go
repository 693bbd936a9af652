//go:build !race

package e2e

const raceDetector = false
