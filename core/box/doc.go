// Package box resolves what one gateway, appliance, edge router, cloud network or hub
// holds, neutral and whole: its interfaces and addresses, its tables by routing instance,
// what it learns and announces, its sessions and tunnels with the settings of this end, its
// translations in order, its listeners, and everything that somebody must enter there.
//
// A [Box] is what files, sheets and instructions are printed from, and they are printed from
// nothing else: whoever prints asks no design, so that a print cannot know better than a
// proof. The tables in a box are those that walks look routes up in ([route.Point]), and its
// translations, selectors and own addresses are the ones that walks obey.
//
// [Of] resolves one box, [At] all that a party has. [Instructions] are the same as data: what
// each party must enter, in order, with who, why and how to check it. A design rebuilt from
// the instructions of all parties has the same tables and proves the same walks; the tests of
// package lab hold that on random designs.
package box
