//go:build invented

package main

import "example.com/genarch/engine/enginetest/invented"

func init() { moreEngines = append(moreEngines, invented.Engine{}) }
