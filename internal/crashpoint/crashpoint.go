// Package crashpoint is the one place where tests let a step of a command fail, or end
// the program in its midst. Every step that changes the host or the engine goes
// through Step. In the program that people get it only calls the step; a build with
// the tag "crashpoint" obeys COZYSHELF_CRASHPOINT.
package crashpoint
