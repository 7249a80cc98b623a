//go:build !unix

package intake

const dontWait = 0
