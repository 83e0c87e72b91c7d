package workspace

// Key is a key of the workspace file: the one source of the reader's knowledge, of
// docs/workspace.md and of the JSON Schema for editors.
type Key struct {
	Name string
	// Type is "string", "duration", "integer", "number", "boolean", "any", "secret",
	// "cadence", "range", "version", a shape's name, "list of …" or "map of …".
	Type     string
	Required bool
	Doc      string
}

// Shape is a mapping of the file with the keys it may have.
type Shape struct {
	Name string
	Doc  string
	Keys []Key
}

// Shapes describes the language, outermost first.
var Shapes = []Shape{
	{"workspace", "The whole file.", []Key{
		{"hodstone", "integer", true, "The version of this language: 1."},
		{"name", "string", false, "What the workspace is about, for titles."},
		{"brokers", "map of broker", false, "The brokers by name. The first is used where none is named."},
		{"logins", "map of login", false, "The client identities by name."},
		{"contract", "contract", false, "Who says what, where and how."},
		{
			"credentials",
			"list of string",
			false,
			"Files and folders of certificates and keys, for the trust screen to look at; relative to this file's folder.",
		},
		{"devices", "map of device", false, "The simulated devices by name."},
	}},
	{"broker", "An MQTT server to be reached, or the stand-in that ships with Hodstone.", []Key{
		{"stand-in", "stand-in", false, "Start the small broker inside Hodstone instead of reaching another."},
		{
			"listeners",
			"map of listener",
			false,
			"The ways into the broker by name. The first is used where none is named.",
		},
		{
			"login",
			"string",
			false,
			"The login of Hodstone's own clients: the observer and the checks. It needs the right to read and write everything.",
		},
		{
			"anonymous",
			"boolean",
			false,
			"Whether clients without credentials are meant to get in. Without it the check login.anonymous is skipped.",
		},
		{"version", "version", false, "The protocol version of Hodstone's observer: 3.1, 3.1.1 or 5 (default)."},
		{
			"accepted",
			"accepted",
			false,
			"What is left open on purpose. 'hodstone reach' lists it with the reason, and no longer counts it as a worry.",
		},
		{
			"client-id",
			"string",
			false,
			"The client identifiers of observer, reach and checks, {n} for a number, where the broker has a rule for them: \"s-{n}\".",
		},
		{"intrusive", "string", false, "\"allowed\" lets checks run that throw clients out or fail logins on purpose."},
	}},
	{"accepted", "Doors that stay open on purpose, each with the reason.", []Key{
		{DoorAnonymous, "string", false, "Clients without credentials get in, because …"},
		{DoorPlain, "string", false, "A plain listener stands beside a TLS one, because …"},
		{DoorUnrestricted, "string", false, "A login may read everything, or publish on any topic, because …"},
	}},
	{"listener", "One way into a broker.", []Key{
		{
			"url",
			"string",
			true,
			"mqtt://HOST:PORT over TCP, mqtts:// over TLS, ws://HOST:PORT/PATH and wss:// over WebSocket, unix:///PATH over a local socket.",
		},
		{
			"ca",
			"string",
			false,
			"For TLS: a file beside the workspace with the CA to trust, as PEM, DER, PKCS #7 or #12; the system's roots without it.",
		},
		{
			"server-name",
			"string",
			false,
			"For TLS: the name that the broker's certificate must hold, where it is not the URL's.",
		},
	}},
	{"stand-in", "A broker of Hodstone's own, faithful unless told to misbehave.", []Key{
		{
			"listeners",
			"map of string",
			false,
			"Transports tcp, tls, ws, wss and their addresses; port 0 lets the system choose. The certificates for TLS are made at every start, and Hodstone's own clients trust them. Without it: tcp on 127.0.0.1:0.",
		},
		{"logins", "list of string", false, "The logins it knows. {n} in a login's name stands for 1, 2, 3 …"},
		{
			"rights",
			"map of rights",
			false,
			"What logins may publish and subscribe to, by login; * in the name stands for any characters. The first that fits counts; a login that none fits may do everything.",
		},
		{"anonymous", "boolean", false, "Let in clients without credentials (default: only when it knows no logins)."},
		{"limits", "limits", false, "What it announces in CONNACK, and keeps."},
		{
			"own-tls",
			"own-tls",
			false,
			"The certificate of the TLS listeners, in place of one that is made at every start.",
		},
		{
			"certificate",
			"string",
			false,
			"What is wrong with the certificate of the TLS listeners on purpose: expired, wrong-name or incomplete (no intermediate).",
		},
		{
			"faults",
			"list of string",
			false,
			"Names of faults: ways to misbehave on purpose. 'hodstone stand-in --help' lists them.",
		},
	}},
	{"own-tls", "A certificate of your own for a stand-in. Files beside the workspace, in any form.", []Key{
		{"certificate", "string", true, "The certificate and its chain."},
		{"key", "string", false, "Its private key, where it is in another file."},
		{"passphrase", "secret", false, "What an encrypted key is opened with."},
		{"ca", "string", true, "The CA that Hodstone's clients trust, and that signs the certificates of clients."},
	}},
	{"rights", "What a login of a stand-in may do. {login} in a filter stands for the login's name.", []Key{
		{"publish", "list of string", false, "Topic filters; everything without it, nothing where it is []."},
		{"subscribe", "list of string", false, "Topic filters; a subscription must lie within one of them."},
	}},
	{"limits", "Limits of a stand-in, in the words of CONNACK (MQTT 5.0 §3.2.2.3).", []Key{
		{"maximum-qos", "integer", false, "0 or 1."},
		{"retain-available", "boolean", false, "Default true."},
		{"wildcard-subscription-available", "boolean", false, "Default true."},
		{"subscription-identifiers-available", "boolean", false, "Default true."},
		{"shared-subscription-available", "boolean", false, "Default true."},
		{"maximum-packet-size", "integer", false, "In bytes."},
		{"receive-maximum", "integer", false, "Messages at QoS 1 and 2 that may be unacknowledged towards it."},
		{"server-keep-alive", "duration", false, "Replaces the client's keep alive in version 5."},
		{"client-id", "string", false, "A regular expression that the whole client identifier must match."},
		{
			"empty-client-id",
			"boolean",
			false,
			"Whether a client may leave its identifier to the stand-in (default true).",
		},
		{"connections", "integer", false, "How many clients may be connected at a time."},
		{
			"server-reference",
			"string",
			false,
			"Refuses every client and names another server to use (0x9C, 5.0 §4.13).",
		},
	}},
	{"login", "A client identity.", []Key{
		{"username", "string", false, "The user name; the login's name where it is missing."},
		{
			"password",
			"secret",
			false,
			"The password. Best {env: NAME} or {file: path}. A login of a stand-in without one gets a random one at every start.",
		},
		{
			"certificate",
			"string",
			false,
			"For TLS: a file beside the workspace with the client's certificate and its chain, as PEM, DER or PKCS #12; it may hold the key too.",
		},
		{
			"key",
			"string",
			false,
			"For TLS: the file with the certificate's private key, where it is another; it may be encrypted.",
		},
		{"passphrase", "secret", false, "What an encrypted key or key store is opened with."},
		{"token", "secret", false, "A token, sent as the password."},
		{"method", "string", false, "SCRAM-SHA-256: prove the password in version 5 without sending it (5.0 §4.12)."},
	}},
	{"contract", "The agreement between the parties.", []Key{
		{"parties", "map of party", false, "The roles that publish and consume."},
		{"parameters", "map of parameter", false, "What the {named} levels of topics may hold."},
		{"clauses", "map of clause", false, "One topic pattern each, with its payload."},
	}},
	{"party", "A role: a device type, a controller, a back-office program.", []Key{
		{"note", "string", false, "What it is, for people."},
	}},
	{"parameter", "A named topic level.", []Key{
		{"values", "list of string", false, "All values it can have; each is expected to speak, and gets a column."},
		{"pattern", "string", false, "A regular expression that the whole level must match."},
		{"note", "string", false, "What it stands for, for people."},
	}},
	{"clause", "One topic pattern and what is agreed about it.", []Key{
		{"topic", "string", true, "The topic name, with parameters as {name} filling whole levels."},
		{"from", "string", true, "The party that publishes."},
		{"to", "list of string", false, "The parties that consume; one may stand without brackets."},
		{"qos", "integer", false, "The QoS to publish with: 0, 1 or 2."},
		{"retain", "boolean", false, "The retain flag to publish with."},
		{"every", "cadence", false, "How often a message is due, as 12s or 12s ± 3s. More often is allowed."},
		{"answer", "answer", false, "The message that must follow this one."},
		{"presence", "presence", false, "The payloads of coming, leaving and being lost."},
		{"payload", "payload", true, "What the message carries."},
		{"note", "string", false, "What it means, for people."},
	}},
	{"answer", "What must follow a command, at the same parameters.", []Key{
		{"clause", "string", true, "The answer's clause."},
		{"within", "duration", true, "How soon it must come."},
	}},
	{"presence", "What a party says of itself on one topic.", []Key{
		{"coming", "string", true, "Published after connecting."},
		{"leaving", "string", true, "Published before a proper goodbye."},
		{"lost", "string", true, "The will."},
	}},
	{"payload", "What a message carries.", []Key{
		{"format", "string", true, "json, text, number or binary."},
		{
			"schema",
			"any",
			false,
			"For json: a JSON Schema (2020-12), here or by $ref to a file beside the workspace. Formats are held to; unit and values (value: meaning) are shown to people.",
		},
		{"values", "map of string", false, "For text: the allowed texts and what they stand for."},
		{"minimum", "number", false, "For number: the smallest."},
		{"maximum", "number", false, "For number: the largest."},
		{"unit", "string", false, "For number: the unit."},
	}},
	{"device", "A simulated client, or several of one kind.", []Key{
		{"count", "integer", false, "How many there are: NAME-1, NAME-2 … Their number is {n}, and n in expressions."},
		{"plays", "string", true, "The party it plays."},
		{"parameters", "map of string", false, "The values of the topics' parameters; {n} is the number."},
		{"broker", "string", false, "BROKER or BROKER/LISTENER; the first of each by default."},
		{"login", "string", false, "The login; {n} is the number."},
		{"session", "session", false, "How it connects."},
		{"presence", "string", false, "The clause on which it announces coming, leaving and, by its will, being lost."},
		{"signals", "map of signal", false, "The values inside it, by name."},
		{"publishes", "list of publication", false, "What it publishes."},
		{"reactions", "list of reaction", false, "What it does when a message arrives."},
		{"note", "string", false, "What it is, for people."},
	}},
	{"session", "How a device connects.", []Key{
		{"version", "version", false, "3.1, 3.1.1 (default) or 5."},
		{"client-id", "string", false, "The client identifier; {n} is the number. The device's name by default."},
		{"clean-start", "boolean", false, "Begin with a new session (default true)."},
		{"keep-alive", "duration", false, "Default 30s."},
	}},
	{"signal", "A value inside a device.", []Key{
		{
			"start",
			"any",
			false,
			"The value at the start; all there is to a constant, which only a reaction or a hand changes.",
		},
		{"wave", "string", false, "sine, ramp, walk (random) or counter; constant without it."},
		{"mean", "number", false, "sine: the middle."},
		{"swing", "number", false, "sine: how far it goes to either side."},
		{"noise", "number", false, "sine, ramp: random addition of up to this much."},
		{"period", "duration", false, "sine, ramp: one round."},
		{"from", "number", false, "ramp: where it begins."},
		{"to", "number", false, "ramp: where it ends and begins again."},
		{"step", "number", false, "walk: the largest step; counter: each step (default 1)."},
		{"every", "duration", false, "walk, counter: time between steps (default 1s)."},
		{"minimum", "number", false, "walk: the lower end."},
		{"maximum", "number", false, "walk: the upper end."},
		{"unit", "string", false, "The unit, for people."},
	}},
	{"publication", "A message that a device publishes.", []Key{
		{"clause", "string", false, "The clause it keeps: topic, QoS and retain come from there."},
		{"topic", "string", false, "A topic instead of a clause, to try what the contract does not cover."},
		{"every", "duration", false, "Publish on a timer. Without it and when-changed: only in reactions or by hand."},
		{"when-changed", "change", false, "Publish as well when a signal has moved far enough."},
		{"where", "string", false, "An expression that must be true for the message to be sent, such as oxygen < 7."},
		{
			"parameters",
			"map of any",
			false,
			"Values of the topic's parameters for this message, where the device has no fixed ones.",
		},
		{"payload", "any", false, "The payload; parts that begin with \"= \" are expressions."},
		{"qos", "integer", false, "Instead of the clause's, to break it on purpose."},
		{"retain", "boolean", false, "Instead of the clause's, to break it on purpose."},
	}},
	{"change", "When a signal has changed.", []Key{
		{"signal", "string", true, "The signal."},
		{"by", "number", false, "The deadband in the signal's unit; any change without it."},
	}},
	{"reaction", "What a device does when a message arrives.", []Key{
		{"when", "string", true, "The clause whose messages it takes; it subscribes to its own instance."},
		{"where", "string", false, "An expression that must be true, such as payload.run."},
		{
			"set",
			"map of any",
			false,
			"Signals to set; values may be expressions, with the message as payload and its topic's parameters as params.",
		},
		{"after", "range", false, "How long it takes to react: 200ms or 150ms..400ms."},
		{"publish", "list of string", false, "The clauses to publish then; one may stand without brackets."},
	}},
}

// shape returns the shape with the name.
func shape(name string) Shape {
	for _, s := range Shapes {
		if s.Name == name {
			return s
		}
	}
	panic("workspace: no shape " + name)
}
