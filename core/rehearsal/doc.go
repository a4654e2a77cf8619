// Package rehearsal lays out how a whole design is run for real before anybody touches a box, and
// holds what came of it against what was proven.
//
// A [Plan] is data: the namespaces, the cables between them, the commands that give each what is
// there before anything is handed over, and the files. A box of one's own has the files that are
// handed over and nothing else. Clouds, hubs and whoever has no file are players: they read the
// design that the instructions alone make ([box.Rebuilt]), and so know nothing that nobody was told.
// The package lab/stage builds a plan on a machine and plays it; [Hold] compares.
//
// Kernels of small machines have no ESP. The daemons agree on keys and install their SAs in user
// space, and a wire stands for what a kernel would do with these: it lets pass what the selectors of
// an SA that both ends hold fit, and nothing else.
package rehearsal
