package schedule

// words are the headings of each meaning, in small letters without signs: in English, German,
// French and Spanish, as planners write them.
var words = map[Column][]string{
	Tag: {
		"tag", "id", "ref", "reference", "no", "nr", "number", "item", "device id", "device no",
		"kürzel", "kennung", "kennzeichen", "nummer", "lfd nr", "gerätenummer", "geräte nr", "repère", "numéro", "n", "réf", "référence", "etiqueta", "número", "referencia",
	},
	Kind: {
		"kind", "type", "device", "device type", "category", "equipment",
		"art", "typ", "gerät", "geräteart", "gerätetyp", "genre", "appareil", "équipement", "tipo", "equipo", "dispositivo", "clase",
	},
	Name: {
		"name", "description", "designation", "title", "view", "device name", "camera name",
		"bezeichnung", "benennung", "beschreibung", "kameraname", "gerätename", "nom", "désignation", "libellé", "nom de la caméra", "nombre", "denominación", "descripción",
	},
	Place: {
		"place", "location", "position", "where", "room", "area", "mounting place", "site",
		"ort", "standort", "montageort", "einbauort", "raum", "bereich", "lieu", "emplacement", "local", "pièce", "salle", "localisation", "zone", "ubicación", "lugar", "sala", "emplazamiento", "posición", "zona",
	},
	MAC: {
		"mac", "mac address", "macaddress", "ethernet address", "hardware address", "physical address", "mac id",
		"mac adresse", "macadresse", "hardwareadresse", "physikalische adresse", "adresse mac", "adresse physique", "dirección mac", "direccion mac",
	},
	Serial: {
		"serial", "serial no", "serial number", "serialno", "sn", "s n", "ser no",
		"seriennummer", "serien nr", "serien nummer", "serialnummer", "numéro de série", "numero de série", "no de série", "n de série", "nº de série", "n série", "número de serie", "numero de serie", "nº de serie", "nº serie", "n serie",
	},
	Channel: {
		"channel", "ch", "recorder channel", "rec channel", "channel no", "channel number",
		"kanal", "kanal nr", "rekorderkanal", "canal", "voie", "canal enregistreur", "canal grabador", "canal del grabador",
	},
	Switch: {
		"switch", "switch name", "patch panel", "cabinet",
		"verteiler", "netzwerkschrank", "patchfeld", "commutateur", "baie", "conmutador", "armario",
	},
	Port: {
		"port", "switch port", "port no", "switch port no", "outlet", "socket", "patch",
		"anschluss", "dose", "switchport", "port switch", "prise", "puerto", "toma", "puerto del switch",
	},
	Address: {
		"address", "ip", "ip address", "ipaddress", "ipv4", "ipv4 address", "ip adr", "network address",
		"adresse", "ip adresse", "ipadresse", "adresse ip", "dirección", "dirección ip", "direccion ip", "direccion",
	},
	Remark: {
		"remark", "remarks", "note", "notes", "comment", "comments",
		"bemerkung", "bemerkungen", "anmerkung", "anmerkungen", "hinweis", "kommentar", "remarque", "remarques", "commentaire", "commentaires", "observaciones", "observación", "comentario", "comentarios", "notas",
	},
}

// kindWords are parts of the words for each sort of device, in the same languages.
var (
	cameraWords   = []string{"camera", "dome", "bullet", "cctv", "kamera", "caméra", "cámara", "camara"}
	recorderWords = []string{"recorder", "rekorder", "enregistreur", "grabador"}
	indoorWords   = []string{"indoor", "inside station", "handset", "innenstation", "wohnungsstation", "moniteur", "monitor interior", "poste intérieur"}
	doorWords     = []string{"door station", "intercom", "entry", "türstation", "sprechanlage", "interphone", "platine de rue", "portero", "placa de calle"}
	panelWords    = []string{"panel", "controller", "speaker", "audio", "zutritt", "steuergerät", "lautsprecher", "contrôleur", "haut-parleur", "controlador", "altavoz"}
)
