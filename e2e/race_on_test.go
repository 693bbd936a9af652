//go:build race

package e2e

// raceDetector: the program under test is built with the race detector too.
const raceDetector = true
