package plan

import ()

// Edits of POSIX trees: what levels and entries stand for there, and what is
// handed down to what is there.
