package contract

// VersionHeader is in every answer of a Unitas service, by which a client knows that it is one.
const VersionHeader = "Unitas-Version"
