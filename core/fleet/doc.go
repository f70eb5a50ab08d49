// Package fleet has duels driven from other machines: agents, which join a bus and wait for work, and whoever runs a
// duel, who finds them, has them get ready, begin at one moment, and hand over what they recorded.
//
// All that passes between the two is asked by whoever runs the duel and can be asked again, so that a link that breaks
// costs time and nothing else: an agent finishes its heat, keeps what came of it, and hands it over when it is asked.
// Messages are JSON, bounded, and checked by whoever takes them (message.go). What an agent does is decided by its
// owner (Rules): hosts, amounts, and which values of its environment a plan may use, which never travel.
//
// It promises that clocks are compared, not trusted (clocks.go): every moment is brought to the clock of whoever runs
// the duel, and how far it may be off is told. Driving is left to package rounds, carrying messages to package bus.
package fleet
