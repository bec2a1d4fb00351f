package source

import "strings"

// nameWords are what columns are called, or one of several words of their names, in
// English, German, French, Spanish, Italian and Dutch.
var nameWords = wordsOf(`
id ids uuid key keys code codes nr num number name names title type kind class category group status state label text
note notes comment comments description desc value values date day month year time timestamp email mail phone tel fax
address street city town zip postcode postal region county country lang language url link file path source target owner
user author unit units size length width height weight colour color gender sex age price amount total sum count qty
quantity currency lat lon lng latitude longitude version flag level rank index column field item product company
organisation organization
vorname nachname ort plz straße strasse land datum tag monat jahr wert preis menge bezeichnung beschreibung nummer kunde
nom prénom prenom ville pays adresse libellé libelle numéro numero jour mois année annee valeur prix
nombre apellido ciudad país pais dirección direccion fecha valor precio código codigo descripción descripcion
nome cognome città citta paese indirizzo data valore prezzo codice descrizione
naam plaats straat waarde prijs
`)

func wordsOf(text string) map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(text) {
		out[w] = true
	}
	return out
}

func isNameWord(w string) bool { return nameWords[w] }
