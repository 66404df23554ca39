// Package place is the locations outside of this machine where suppliers leave files: SFTP and FTP servers, object
// stores, and files that are asked for by HTTP. What a place can do is a [Driver]; a [Place] keeps its connections,
// bounds what is asked of it, and is what package landing reads from. [Places] are all that the settings name.
//
// It knows nothing of feeds' ledgers; what a file of a place becomes is decided as for files of folders. Object
// stores are in package objects, apart, because of the size of what they are made with. Start at [Places.Landing].
package place
