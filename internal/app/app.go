// Package app holds the nouns that the use cases share, a file each: projects and their
// environments, flags, segments, attributes, units, stops, people, access keys, who follows,
// and the faults that a request can meet.
//
// What is done with them stands in the packages below, one for each use case. All that edits
// goes through commit, which is one transaction, and admit, which is one gate. None of them
// knows how it is called or where it is stored.
package app
