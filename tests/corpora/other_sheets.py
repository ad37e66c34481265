"""A second corpus of made-up sheets, by another plan than `sheets.py`: whole headers as forms, clubs, schools and offices
write them, and rows that fit. The reader was not tuned on it; it is there to say how it does on what it never saw.

    python tests/corpora/other_sheets.py [--seed 2026] [--rounds 4] [--show 0]

A header is a line of titles with what each holds: N name, G given, F family, T family and given with a comma, E e-mail,
P phone, X a text that must be kept, R remarks, O organisation, S somebody who is not of the row (name), s an address of
such; a number behind it says of whom in the row. Targets: 93 in 100 right, none wrong in silence.
"""

from __future__ import annotations

import argparse
import random
from collections.abc import Iterator

from sheets import LANGUAGES, Maker, Sheet, Somebody, run

# Language: headers, each title with its code.
HEADERS = {
    "English": """
        Timestamp:X|What's your full name?:N|What is the best e-mail address for you?:E|And a phone number, please:P|Any dietary requirements?:X
        Surname:F|Forename(s):G|House:X|E-mail address (required):E|Mobile No.:P|Tutor:S
        Player's name:N1|D.O.B.:X|Parent/Carer name:N2|Parent/Carer email:E2|Parent/Carer tel no:P2
        Company:O|First Name:G|Last Name:F|Position:X|Business Phone:P|E-mail Address:E
        Berth:X|Owner:N1|Owner's e-mail:E1|Owner's phone:P1|Joint owner:N2|Joint owner's e-mail:E2
        Name of singer:N|Voice part:X|Contact email:E|Contact telephone:P|In case of emergency call:S
        Guest:N1|Email:E1|Plus one:N2|Table:X
        Volunteer:N|Primary email:E|Secondary email:E|Home phone:P|Cell phone:P|Comments:R""",
    "German": """
        Zeitstempel:X|Wie heißen Sie?:N|Unter welcher E-Mail-Adresse sind Sie erreichbar?:E|Telefonnummer für Rückfragen:P|Sonstiges:R
        Lfd. Nr.:X|Name:F|Vorname:G|Straße:X|PLZ:X|Ort:X|Tel. privat:P|E-Mail:E
        Name des Kindes:N1|Klasse:X|Name der Mutter:N2|E-Mail der Mutter:E2|Name des Vaters:N3|E-Mail des Vaters:E3
        Firma:O|Anrede:X|Vorname:G|Nachname:F|Funktion:X|E-Mail-Adresse:E|Durchwahl:P
        Liegeplatz:X|Eigner:N1|Mailadresse Eigner:E1|Miteigner:N2|Mailadresse Miteigner:E2
        Sänger/in:N|Stimme:X|Mobilnr.:P|Mail:E|Im Notfall verständigen:S
        Nachname, Vorname:T|Dienststelle:X|Dienstl. E-Mail:E|Handy (dienstlich):P
        Teilnehmer:N|Private E-Mail:E|Geschäftliche E-Mail:E|Bemerkungen:R""",
    "French": """
        Horodateur:X|Quel est votre nom complet ?:N|Quelle est votre adresse mail ?:E|Votre numéro de téléphone:P|Remarques éventuelles:R
        NOM:F|PRÉNOM:G|ADRESSE:X|CP:X|VILLE:X|TÉL. PORTABLE:P|MAIL:E
        Nom de l'élève:N1|Classe:X|Nom de la mère:N2|Courriel de la mère:E2|Nom du père:N3|Courriel du père:E3
        Entreprise:O|Prénom:G|Nom:F|Fonction:X|Téléphone professionnel:P|Courriel professionnel:E
        Emplacement:X|Propriétaire:N1|E-mail propriétaire:E1|Copropriétaire:N2|E-mail copropriétaire:E2
        Choriste:N|Pupitre:X|Portable:P|Adresse électronique:E|Personne à prévenir:S
        Bénévole:N|E-mail perso:E|E-mail pro:E|Observations:R""",
    "Spanish": """
        Marca temporal:X|¿Cómo te llamas?:N|¿Cuál es tu correo electrónico?:E|¿A qué teléfono podemos llamarte?:P|Comentarios:R
        Apellidos:F|Nombre:G|Dirección:X|C.P.:X|Población:X|Tfno. móvil:P|E-mail:E
        Nombre del alumno:N1|Curso:X|Nombre de la madre:N2|Correo de la madre:E2|Nombre del padre:N3|Correo del padre:E3
        Empresa:O|Nombre:G|Apellidos:F|Cargo:X|Teléfono:P|Correo:E
        Amarre:X|Propietario:N1|Correo del propietario:E1|Copropietario:N2|Correo del copropietario:E2
        Socio:N|Cuerda:X|Móvil:P|Email:E|Contacto en caso de emergencia:S""",
    "Italian": """
        Informazioni cronologiche:X|Come ti chiami?:N|Qual è il tuo indirizzo email?:E|Numero di cellulare:P|Note:R
        Cognome:F|Nome:G|Indirizzo:X|CAP:X|Città:X|Cell.:P|E-mail:E
        Nome dell'alunno:N1|Classe:X|Nome della madre:N2|E-mail della madre:E2|Nome del padre:N3|E-mail del padre:E3
        Azienda:O|Nome:G|Cognome:F|Ruolo:X|Telefono ufficio:P|E-mail ufficio:E
        Posto barca:X|Armatore:N1|E-mail armatore:E1|Comproprietario:N2|E-mail comproprietario:E2
        Corista:N|Voce:X|Cellulare:P|Mail:E|In caso di emergenza chiamare:S""",
    "Portuguese": """
        Carimbo de data/hora:X|Qual é o seu nome completo?:N|Qual é o seu e-mail?:E|Telemóvel de contacto:P|Observações:R
        Apelido:F|Nome próprio:G|Morada:X|Código postal:X|Localidade:X|Telemóvel:P|E-mail:E
        Nome do aluno:N1|Turma:X|Nome da mãe:N2|E-mail da mãe:E2|Nome do pai:N3|E-mail do pai:E3
        Empresa:O|Primeiro nome:G|Último nome:F|Cargo:X|Telefone:P|Correio eletrónico:E
        Lugar:X|Proprietário:N1|E-mail do proprietário:E1|Coproprietário:N2|E-mail do coproprietário:E2
        Sócio:N|Naipe:X|Tlm.:P|Email:E|Em caso de emergência contactar:S""",
    "Dutch": """
        Tijdstempel:X|Wat is je naam?:N|Op welk e-mailadres kunnen we je bereiken?:E|En je telefoonnummer?:P|Opmerkingen:R
        Achternaam:F|Voornaam:G|Adres:X|Postcode:X|Woonplaats:X|Mobiel:P|E-mail:E
        Naam leerling:N1|Groep:X|Naam moeder:N2|E-mail moeder:E2|Naam vader:N3|E-mail vader:E3
        Bedrijf:O|Voornaam:G|Achternaam:F|Functie:X|Telefoon werk:P|E-mail werk:E
        Ligplaats:X|Eigenaar:N1|E-mailadres eigenaar:E1|Mede-eigenaar:N2|E-mailadres mede-eigenaar:E2
        Zanger:N|Stemsoort:X|Mobiel nummer:P|Mailadres:E|Bij nood te bellen:S""",
    "Danish": """
        Tidsstempel:X|Hvad hedder du?:N|Hvad er din e-mailadresse?:E|Telefonnummer:P|Andet:R
        Efternavn:F|Fornavn:G|Adresse:X|Postnr.:X|By:X|Mobil:P|Mail:E
        Barnets navn:N1|Klasse:X|Mors navn:N2|Mors e-mail:E2|Fars navn:N3|Fars e-mail:E3
        Firma:O|Fornavn:G|Efternavn:F|Stilling:X|Direkte telefon:P|E-mail:E
        Bådplads:X|Ejer:N1|Ejers e-mail:E1|Medejer:N2|Medejers e-mail:E2
        Sanger:N|Stemme:X|Mobilnr.:P|E-mail:E|Pårørende:S""",
    "Swedish": """
        Tidsstämpel:X|Vad heter du?:N|Vilken är din e-postadress?:E|Telefonnummer:P|Övrigt:R
        Efternamn:F|Förnamn:G|Adress:X|Postnr:X|Ort:X|Mobil:P|E-post:E
        Barnets namn:N1|Klass:X|Mammas namn:N2|Mammas e-post:E2|Pappas namn:N3|Pappas e-post:E3
        Företag:O|Förnamn:G|Efternamn:F|Befattning:X|Direkttelefon:P|E-post:E
        Båtplats:X|Ägare:N1|Ägarens e-post:E1|Delägare:N2|Delägarens e-post:E2
        Sångare:N|Stämma:X|Mobilnr:P|Mejl:E|Anhörig:S""",
    "Norwegian": """
        Tidsmerke:X|Hva heter du?:N|Hva er e-postadressen din?:E|Telefonnummer:P|Annet:R
        Etternavn:F|Fornavn:G|Adresse:X|Postnr.:X|Poststed:X|Mobil:P|E-post:E
        Barnets navn:N1|Klasse:X|Mors navn:N2|Mors e-post:E2|Fars navn:N3|Fars e-post:E3
        Bedrift:O|Fornavn:G|Etternavn:F|Stilling:X|Direktenummer:P|E-post:E
        Båtplass:X|Eier:N1|Eiers e-post:E1|Medeier:N2|Medeiers e-post:E2
        Sanger:N|Stemme:X|Mobilnr.:P|Epost:E|Pårørende:S""",
    "Polish": """
        Sygnatura czasowa:X|Jak się nazywasz?:N|Jaki jest Twój adres e-mail?:E|Numer telefonu do kontaktu:P|Uwagi:R
        Nazwisko:F|Imię:G|Ulica:X|Kod pocztowy:X|Miejscowość:X|Tel. kom.:P|E-mail:E
        Imię i nazwisko dziecka:N1|Klasa:X|Imię i nazwisko matki:N2|E-mail matki:E2|Imię i nazwisko ojca:N3|E-mail ojca:E3
        Firma:O|Imię:G|Nazwisko:F|Stanowisko:X|Telefon służbowy:P|E-mail służbowy:E
        Miejsce postojowe:X|Właściciel:N1|E-mail właściciela:E1|Współwłaściciel:N2|E-mail współwłaściciela:E2
        Chórzysta:N|Głos:X|Komórka:P|Mail:E|W razie wypadku zawiadomić:S""",
    "Finnish": """
        Aikaleima:X|Mikä on nimesi?:N|Mikä on sähköpostiosoitteesi?:E|Puhelinnumerosi:P|Muuta:R
        Sukunimi:F|Etunimi:G|Osoite:X|Postinumero:X|Postitoimipaikka:X|Matkapuh.:P|Sähköposti:E
        Lapsen nimi:N1|Luokka:X|Äidin nimi:N2|Äidin sähköposti:E2|Isän nimi:N3|Isän sähköposti:E3
        Yritys:O|Etunimi:G|Sukunimi:F|Tehtävä:X|Työpuhelin:P|Sähköposti:E
        Venepaikka:X|Omistaja:N1|Omistajan sähköposti:E1|Osaomistaja:N2|Osaomistajan sähköposti:E2
        Kuorolainen:N|Ääni:X|Kännykkä:P|Sähköpostiosoite:E|Hätätapauksessa soita:S""",
}  # fmt: skip
_TEXTS = (
    "Alder House",
    "7b",
    "42 Quay Street",
    "26386",
    "Row A",
    "second from left",
    "vegetarian, please",
    "A 12",
    "treasurer",
    "bass",
)


def made(language: str, header: str, pick: random.Random) -> Sheet:
    """A sheet under one header."""
    m = Maker(pick, LANGUAGES[language])
    columns = [part.strip().rpartition(":") for part in header.split("|")]
    codes = [code for _, _, code in columns]
    people: list[Somebody] = []
    kept: list[str] = []
    rows = []
    for _ in range(pick.randrange(5, 14)):
        whole = {int(code[1:] or 1) for code in codes if code[0] in "NGFTE"}
        names = {n: m.who() for n in sorted(whole)}
        mine = {n: Somebody(f"{given} {family}") for n, (given, family) in names.items()}
        gone = {n for n in mine if n > 1 and pick.random() < 0.3}
        row = []
        for code in codes:
            what, number = code[0], int(code[1:] or 1)
            given, family = names.get(number, ("", ""))
            cell = ""
            if number in gone:
                cell = ""
            elif what in "NGFT":
                cell = {"N": f"{given} {family}", "G": given, "F": family, "T": f"{family}, {given}"}[what]
            elif what == "E" and (not mine[number].addresses or pick.random() < 0.5):
                cell = m.address(given, family)
                mine[number].addresses.append(cell)
            elif what == "P" and pick.random() < 0.9:
                cell = m.phone()
                mine[number].phones.append(cell)
            elif what == "O":
                cell = LANGUAGES[language].org.format(pick.choice(LANGUAGES[language].families))
                kept.append(cell)
            elif what == "S":
                cell = " ".join(m.who())
                kept.append(cell)
            elif what == "R":
                cell = pick.choice(("", f"see {m.address(*m.who())}", "away until 3 May"))
                kept.append(cell)
            elif what == "X":
                cell = pick.choice(_TEXTS)
                kept.append(cell)
            row.append(cell)
        rows.append(row)
        people += [one for n, one in mine.items() if n not in gone]
    width = len(columns)
    cells = [[title for title, _, _ in columns], *rows]
    if pick.random() < 0.3:  # a title, and who made it
        cells[:0] = [["Tidewick 2026/27", *[""] * (width - 1)], *[[""] * width] * pick.randrange(2)]
    if pick.random() < 0.2:
        cells += [[""] * width, ["* deputies", *[""] * (width - 1)]]
    if pick.random() < 0.2:
        cells = [[*row, *[""] * 2] for row in cells]
    sheet = Sheet(cells, people, [text for text in kept if text])
    sheet.region = LANGUAGES[language].region
    sheet.codec = pick.choice(("utf-8", "utf-8-sig", *LANGUAGES[language].codecs))
    sheet.workbook = pick.random() < 0.5
    return sheet


def everyone(seed: int, rounds: int) -> Iterator[tuple[str, Sheet]]:
    """All headers, so many times each."""
    for round_ in range(rounds):
        for language, headers in HEADERS.items():
            for number, header in enumerate(headers.strip().splitlines()):
                about = f"{round_} {language} header{number + 1}"
                yield about, made(language, header.strip(), random.Random(f"{seed}/{about}"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=2026)
    parser.add_argument("--rounds", type=int, default=4)
    parser.add_argument("--show", type=int, default=0)
    args = parser.parse_args()
    run(everyone(args.seed, args.rounds), args.show, args.seed)


if __name__ == "__main__":
    main()
