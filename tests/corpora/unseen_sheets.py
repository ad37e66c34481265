"""A third corpus of made-up sheets, and five more, each written after the reader was mended by those before it: a template
a sheet, with its header, its rows and what stands around them as somebody typed it.

    python tests/corpora/unseen_sheets.py [--seed 7] [--rounds 4] [--show 0]

In a template a line that begins with `>` is a row, made six to twelve times; `<` is one that comes once in the middle.
`{g1}` is the given name of the row's first person, `{f1}` the family's, `{e1}` an address, `{E1}` a second one, `{p1}` and
`{q1}` numbers, `{x}` a word that must not be lost, `{s}` a stranger's name, `{t}` a stranger's address. After `=` stand the
people who ought to come in, each as the marks that are theirs. Targets: 93 in 100 right, none wrong in silence.
"""

from __future__ import annotations

import argparse
import random
import re
from collections.abc import Iterator

from sheets import LANGUAGES, Maker, Sheet, Somebody, run

THIRD = """
English = g1 f1 e1 p1
Harbour choir, autumn term;;;;
First name;Last name;Voice;E-Mail;Tel
>{g1};{f1};{x};{e1};{p1}
Choirmaster: see notice board;;;;

English = g1 f1 e1 E1 p1
Contact list of berth holders
Holder;Boat's name;Email (1);Email (2);Daytime phone
>{g1} {f1};{x};{e1};{E1};{p1}

English = g1 f1 e1 | g2 f2 e2
Pupil forename;Pupil surname;Pupil email;Guardian forename;Guardian surname;Guardian email
>{g1};{f1};{e1};{g2};{f2};{e2}

English = g1 f1 p1 q1 e1
NAME;HOME TEL;MOBILE TEL;E-MAIL;NOTES
>{f1}, {g1};{p1};{q1};{e1};ask {t} first
;;;;
TOTAL MEMBERS;;;;

German = g1 f1 e1 p1
Teilnehmerliste Segelkurs 2026;;;;
Teilnehmer/in;;Kontakt;;Bemerkung
Vorname;Nachname;E-Mail;Telefon;
>{g1};{f1};{e1};{p1};{x}

German = g1 f1 e1 p1
Pos.;Name;Vorname;geb. am;Rufnummer (mobil);Mail-Adresse;Eintritt
>1;{f1};{g1};12.03.1961;{p1};{e1};01.04.2001

German = g1 f1 e1 p1
Ansprechpartner im Notfall;Mitglied;E-Mail Mitglied;Tel. Mitglied;Tel. Ansprechpartner
>{s};{g1} {f1};{e1};{p1};0441 999999

German = g1 f1 e1 | g2 f2 e2
Stand: 1.11.2026;;;
Eigentümer;Mail Eigentümer;Ehepartner;Mail Ehepartner
>{g1} {f1};{e1};{g2} {f2};{e2}
Gesamt;12;;

French = g1 f1 e1 p1
Liste des adhérents au 1er novembre;;;;
N°;NOM;Prénom;Adresse mail;Tél. mobile
>7;{f1};{g1};{e1};{p1}

French = g1 f1 e1 p1
Nom - Prénom;Commune;Téléphone domicile;E-mail personnel
>{f1} {g1};{x};{p1};{e1}

French = g1 f1 | g2 f2 e2 p2
Prénom de l'enfant;Nom de l'enfant;Prénom du responsable;Nom du responsable légal;Mail du responsable légal;Portable du responsable légal
>{g1};{f1};{g2};{f2};{e2};{p2}

Spanish = g1 f1 e1 p1
Listado de socios;;;;
Nº;Nombre;Apellidos;Correo-e;Tfno.
>4;{g1};{f1};{e1};{p1}
;;;;
Actualizado el 3/11/2026;;;;

Spanish = g1 f1 e1 E1
Participante;Email personal;Email del trabajo;Talla de camiseta
>{g1} {f1};{e1};{E1};{x}

Italian = g1 f1 e1 p1
ELENCO SOCI;;;;
Cognome;Nome;Recapito telefonico;Indirizzo di posta elettronica;Quota versata
>{f1};{g1};{p1};{e1};sì

Italian = g1 f1 e1 | g2 f2 e2
Bambino;Classe;Mamma;Mail mamma
>{g1} {f1};{x};{g2} {f2};{e2}

Portuguese = g1 f1 e1 p1
Nome;Apelido;Contacto telefónico;E-mail;Freguesia
>{g1};{f1};{p1};{e1};{x}

Dutch = g1 f1 e1 p1
Ledenlijst;;;;
Voornaam;Achternaam;Straat;Mobiele telefoon;E-mailadres
>{g1};{f1};{x};{p1};{e1}
<{g1};;;;

Dutch = g1 f1 e1 p1
Naam lid;Mailadres;Telefoonnr.;Noodcontact (naam);Noodcontact (telefoon)
>{g1} {f1};{e1};{p1};{s};06 99887766

Danish = g1 f1 e1 p1
Medlemsliste;;;
Fornavn og efternavn;Tlf.nr.;Mailadresse;Bådnavn
>{g1} {f1};{p1};{e1};{x}

Danish = g1 f1 e1 | g2 f2 e2
Ejer;Ejers mail;Samlever;Samlevers mail
>{g1} {f1};{e1};{g2} {f2};{e2}

Swedish = g1 f1 e1 p1
Namn;Gatuadress;Telefon hem;E-postadress
>{g1} {f1};{x};{p1};{e1}

Swedish = g1 f1 | g2 f2 e2 p2
Elev;Klass;Vårdnadshavare;Vårdnadshavares e-post;Vårdnadshavares mobil
>{g1} {f1};{x};{g2} {f2};{e2};{p2}

Norwegian = g1 f1 e1 p1
Deltakerliste;;;
Etternavn;Fornavn;Mobilnummer;E-postadresse
>{f1};{g1};{p1};{e1}
Skrevet ut 3.11.2026;;;

Polish = g1 f1 e1 p1
Lp.;Nazwisko i imię;Numer telefonu;Adres e-mail;Funkcja
>3;{f1} {g1};{p1};{e1};{x}

Polish = g1 f1 e1 p1
Imię;Nazwisko;Tel. domowy;Mail;Uwagi
>{g1};{f1};{p1};{e1};{x}
Razem: 8;;;;

Finnish = g1 f1 e1 p1
Jäsenluettelo;;;
Etunimi;Sukunimi;Sähköpostiosoite;Puh.
>{g1};{f1};{e1};{p1}

Finnish = g1 f1 e1 | g2 f2 e2
Oppilas;Oppilaan sähköposti;Huoltaja;Huoltajan sähköposti
>{g1} {f1};{e1};{g2} {f2};{e2}

English = g1 f1 e1 p1
Fleet A;;;;Fleet B;;
Name;E-mail;Phone;;Name;E-mail;Phone
>{g1} {f1};{e1};{p1};;;;

English = g1 f1 e1 p1
Referred by;Customer;Customer e-mail;Customer phone;Invoice to
>{s};{g1} {f1};{e1};{p1};{t}

German = g1 f1 e1 p1
Verein;Vorsitzende/r;E-Mail;Telefon
>{x};{g1} {f1};{e1};{p1}
"""

# Written after the reader was mended by those, and held against it once: 92 of 96 right at first sight.
FOURTH = """
English = g1 f1 e1 p1
Exported from the booking desk on 3 November;;;;;
Booking ref;Lead guest;Guests' email;Contact no.;Nights;Allergies
>{x};{g1} {f1};{e1};{p1};3;none

English = g1 f1 e1
Rank;Initials;Surname;Forename;Service email
>2;X;{f1};{g1};{e1}

English = g1 f1 e1 p1 | g2 f2 e2 p2
Skipper name;Skipper email;Skipper mobile;Crew name;Spouse;Spouse email;Spouse mobile
>{g1} {f1};{e1};{p1};{x};{g2} {f2};{e2};{p2}

English = g1 f1 e1 p1
Staff directory;;;;
;;;;
Dept;Extension;Employee;Work e-mail;Direct line
>{x};4711;{g1} {f1};{e1};{p1}

English = g1 f1 e1
Who's coming?;E-mail to confirm;Bringing a dish?;How did you hear of us?
>{g1} {f1};{e1};yes;{x}

German = g1 f1 e1 p1
Adressliste Kantorei;;;;;
lfd. Nr.;Familienname, Rufname;Stimmlage;Anschluss;Elektropost;Bem.
>1;{f1}, {g1};{x};{p1};{e1};

German = g1 f1 e1 p1
Kunde;Kundennr.;Mailadresse;Rückrufnummer;Vermittler
>{g1} {f1};47110;{e1};{p1};{s}

German = g1 f1 | g2 f2 e2 p2 | g3 f3
Schülername;Kl.;Mutter (Name);Mutter (Mail);Mutter (Tel.);Vater (Name)
>{g1} {f1};7b;{g2} {f2};{e2};{p2};{g3} {f3}

French = g1 f1 e1 p1
Participant(e);Âge;Mail;Téléphone;Personne à joindre en cas d'urgence
>{g1} {f1};42;{e1};{p1};{s}

French = g1 f1 e1 p1
Association nautique;;;;
Civilité;Nom;Prénom;Adresse de messagerie;Mobile
>Mme;{f1};{g1};{e1};{p1}
Nombre d'inscrits : 12;;;;

French = g1 f1 e1
Horodateur;Adresse e-mail;Nom et prénom du bénévole;Disponibilités
>03/11/2026 10:22;{e1};{g1} {f1};{x}

Spanish = g1 f1 e1 p1
Fecha;Nombre y apellidos del socio;Tel. móvil;Correo
>03/11/2026;{g1} {f1};{p1};{e1}

Spanish = g1 f1 | g2 f2 e2 p2
Alumno/a;Padre, madre o tutor;Correo del tutor;Móvil del tutor
>{g1} {f1};{g2} {f2};{e2};{p2}

Italian = g1 f1 e1 p1
Data;Cognome e Nome;Cell;e-mail;Barca
>3/11/2026;{f1} {g1};{p1};{e1};{x}

Italian = g1 f1 e1
Ragione sociale;Referente;Nome;Cognome;Mail referente
>{x};{s};{g1};{f1};{e1}

Portuguese = g1 f1 e1 p1
N.º;Nome do sócio;Correio eletrónico;Telemóvel;Embarcação
>12;{g1} {f1};{e1};{p1};{x}

Dutch = g1 f1 e1 p1
Deelnemerslijst;;;;
Roepnaam;Familienaam;E-mailadres (privé);Tel. mobiel;Dieet
>{g1};{f1};{e1};{p1};geen

Dutch = g1 f1 e1 | g2 f2 e2
Leerling;E-mail leerling;Ouder/voogd;E-mail ouder/voogd
>{g1} {f1};{e1};{g2} {f2};{e2}

Danish = g1 f1 e1 p1
Tilmeldte;;;
Deltagers navn;Mobiltlf.;Mail;Madønsker
>{g1} {f1};{p1};{e1};{x}

Swedish = g1 f1 e1 p1
Anmälda;;;
Deltagare;Mobiltelefonnummer;Mejladress;Specialkost
>{g1} {f1};{p1};{e1};{x}

Norwegian = g1 f1 e1 p1
Påmeldte;;;
For- og etternavn;Mobiltelefon;E-post;Matønsker
>{g1} {f1};{p1};{e1};{x}

Polish = g1 f1 e1 p1
Lista uczestników;;;
Imię uczestnika;Nazwisko uczestnika;Telefon komórkowy;Poczta e-mail
>{g1};{f1};{p1};{e1}

Polish = g1 f1 | g2 f2 e2
Imię i nazwisko ucznia;Klasa;Opiekun;E-mail opiekuna
>{g1} {f1};4a;{g2} {f2};{e2}

Finnish = g1 f1 e1 p1
Osallistujan nimi;Sähköposti;Puhelin;Erityisruokavalio
>{g1} {f1};{e1};{p1};{x}
"""

FIFTH = """
English = g1 f1 e1 p1
Summer regatta: volunteers;;;;
Volunteer;Role on the day;Preferred e-mail;Preferred phone;T-shirt
>{g1} {f1};{x};{e1};{p1};M

English = g1 f1 e1 E1 p1
Known as;Surname;Organisation;Work e-mail;Home e-mail;Mob
>{g1};{f1};{x};{e1};{E1};{p1}

English = g1 f1 p1 | g2 f2 e2 p2
Player;Player's mobile;Parent/guardian;Parent/guardian email;Parent/guardian mobile;Medical
>{g1} {f1};{p1};{g2} {f2};{e2};{p2};none

English = g1 f1 e1 p1
Ward;Councillor;Party;Contact e-mail;Contact telephone
>{x};{g1} {f1};Ind.;{e1};{p1}

English = g1 f1 e1
Submitted at;Your full name;Best email to reach you;Who recommended us to you?
>2026-11-03 10:22;{g1} {f1};{e1};{s}

English = g1 f1 e1 p1
Tenant name;Flat;Tenant email;Tenant tel;Landlord
>{f1}, {g1};{x};{e1};{p1};{s}
Total: 12 flats;;;;

German = g1 f1 e1 p1
Helferliste Hafenfest;;;;
Helfer;Schicht;Handynr.;Mail;Vertretung
>{g1} {f1};{x};{p1};{e1};{s}

German = g1 f1 e1 p1
Zeitstempel;Wie heißt du?;Deine Mailadresse;Deine Telefonnummer;Was bringst du mit?
>03.11.2026 10:22;{g1} {f1};{e1};{p1};{x}

German = g1 f1 e1 E1 p1
Mitgl.-Nr.;Name, Vorname;E-Mail privat;E-Mail dienstlich;Tel. privat;Beitrag
>471;{f1}, {g1};{e1};{E1};{p1};60

German = g1 f1 | g2 f2 e2 p2
Kind Vorname;Kind Nachname;Elternteil;E-Mail Elternteil;Handy Elternteil
>{g1};{f1};{g2} {f2};{e2};{p2}
Summe: 12 Kinder;;;;

French = g1 f1 e1 p1
Liste des choristes;;;;
Pupitre;Nom de famille;Prénom usuel;Courriel perso;Portable
>{x};{f1};{g1};{e1};{p1}

French = g1 f1 | g2 f2 e2 p2
Nom de l'élève;Classe;Responsable légal;Courriel du responsable;Tél. du responsable
>{g1} {f1};6e;{g2} {f2};{e2};{p2}

French = g1 f1 e1
Société;Contact;Fonction;Adresse électronique
>{x};{g1} {f1};Trésorier;{e1}

Spanish = g1 f1 e1 p1
Listado de voluntarios;;;;
Voluntario/a;Turno;Teléfono de contacto;Correo electrónico;Observaciones
>{g1} {f1};mañana;{p1};{e1};{x}

Spanish = g1 f1 e1
Marca temporal;Dirección de correo;Nombre;Apellidos;¿Quién te lo recomendó?
>03/11/2026 10:22;{e1};{g1};{f1};{s}

Italian = g1 f1 e1 p1
Elenco iscritti;;;;
Iscritto;Corso;Indirizzo mail;Recapito telefonico;Note
>{g1} {f1};{x};{e1};{p1};

Italian = g1 f1 | g2 f2 e2
Alunno;Classe;Genitore;Email genitore
>{g1} {f1};3b;{g2} {f2};{e2}

Portuguese = g1 f1 e1 p1
Lista de inscritos;;;;
Inscrito;Turma;Contacto telefónico;E-mail;Observações
>{g1} {f1};{x};{p1};{e1};

Dutch = g1 f1 e1 p1
Vrijwilligers;;;;
Vrijwilliger;Taak;Mailadres;06-nummer;Opmerkingen
>{g1} {f1};{x};{e1};{p1};

Dutch = g1 f1 e1
Tijdstempel;Hoe heet je?;Wat is je mailadres?;Wat neem je mee?
>03-11-2026 10:22;{g1} {f1};{e1};{x}

Danish = g1 f1 e1 p1
Frivillige;;;
Frivillig;Opgave;Tlf. nr.;Mailadresse
>{g1} {f1};{x};{p1};{e1}

Swedish = g1 f1 | g2 f2 e2 p2
Barnets namn;Grupp;Vårdnadshavare;Vårdnadshavares e-post;Vårdnadshavares mobil
>{g1} {f1};{x};{g2} {f2};{e2};{p2}

Norwegian = g1 f1 e1 p1
Frivillige;;;
Fornavn;Etternavn;Oppgave;Tlf.;E-postadr.
>{g1};{f1};{x};{p1};{e1}

Polish = g1 f1 e1 p1
Znacznik czasu;Jak się nazywasz?;Twój adres e-mail;Twój numer telefonu
>03.11.2026 10:22;{g1} {f1};{e1};{p1}

Finnish = g1 f1 | g2 f2 e2 p2
Lapsen nimi;Ryhmä;Huoltaja;Huoltajan sähköposti;Huoltajan puhelin
>{g1} {f1};{x};{g2} {f2};{e2};{p2}

Finnish = g1 f1 e1 p1
Talkoolaiset;;;
Etunimi;Sukunimi;Tehtävä;Puh.;S-posti
>{g1};{f1};{x};{p1};{e1}
"""


SIXTH = """
English = g1 f1 e1 p1
Allotment holders 2026;;;;;
Plot;Plot holder;Waiting since;Email;Phone;Key no.
>{x};{g1} {f1};2014;{e1};{p1};17

English = g1 f1 e1 p1
Last, First;Instrument;Desk;Email addr;Cell #
>{f1}, {g1};{x};3;{e1};{p1}

English = g1 f1 e1 p1
Delegate;Delegation;Sub;Sub's email;Delegate's email;Delegate's phone
>{g1} {f1};{x};{s};{t};{e1};{p1}

English = g1 f1 e1 p1 q1
Name of member;Landline;Mobile number;E-mail address;Renewal due;Proposed by
>{g1} {f1};{p1};{q1};{e1};01/04/2027;{s}
Printed on 3 November 2026;;;;;

English = g1 f1 e1 | g2 f2 e2
Bride;Bride's email;Groom;Groom's email;Date
>{g1} {f1};{e1};{g2} {f2};{e2};03/07/2027

English = g1 f1 e1
Response ID;What's your name?;What's your email?;Which days suit you?;Any questions?
>108;{g1} {f1};{e1};{x};none

German = g1 f1 e1 p1
Kleingartenverein, Pächterliste;;;;
Parzelle;Pächter;E-Mail-Adresse;Telefon tagsüber;Pacht bezahlt
>{x};{g1} {f1};{e1};{p1};ja

German = g1 f1 e1 p1
Vorname;Zuname;Instrument;Handynummer;E-Mail;Geburtstag
>{g1};{f1};{x};{p1};{e1};12.03.1961

German = g1 f1 e1 | g2 f2 e2
Trainer;Mail Trainer;Co-Trainer;Mail Co-Trainer
>{g1} {f1};{e1};{g2} {f2};{e2}

German = g1 f1 e1
ID;Startzeit;Bitte geben Sie Ihren Namen an;Bitte geben Sie Ihre E-Mail-Adresse an;Wer hat Sie auf uns aufmerksam gemacht?
>7;03.11.2026 10:22;{g1} {f1};{e1};{s}

German = g1 f1 e1 p1
Patient;Hausarzt;Telefon Patient;E-Mail Patient
>{f1}, {g1};{s};{p1};{e1}

French = g1 f1 e1 p1
Jardins partagés;;;;
Parcelle;Jardinier;Courriel;Tél. fixe;Clé
>{x};{g1} {f1};{e1};{p1};17

French = g1 f1 e1
ID;Comment vous appelez-vous ?;Quel est votre courriel ?;Qui vous a parlé de nous ?
>7;{g1} {f1};{e1};{s}

French = g1 f1 e1 p1
NOM;PRENOM;INSTRUMENT;MAIL;PORTABLE
>{f1};{g1};{x};{e1};{p1}

Spanish = g1 f1 e1 p1
Huertos;;;;
Parcela;Hortelano;Correo-e;Teléfono móvil;Cuota pagada
>{x};{g1} {f1};{e1};{p1};sí

Spanish = g1 f1 e1
¿Cuál es tu nombre completo?;¿Cuál es tu correo?;¿Qué traes?
>{g1} {f1};{e1};{x}

Italian = g1 f1 e1 p1
Orchestra, organico;;;;
Strumento;Musicista;Posta elettronica;Cellulare;Scadenza tessera
>{x};{g1} {f1};{e1};{p1};31/12/2026

Italian = g1 f1 e1
Come ti chiami?;La tua email;Chi ti ha invitato?
>{g1} {f1};{e1};{s}

Portuguese = g1 f1 e1 p1
Músico;Instrumento;Endereço de email;Tel. contacto
>{g1} {f1};{x};{e1};{p1}

Dutch = g1 f1 e1 p1
Volkstuinders;;;;
Tuin;Tuinder;Mail;Tel.;Contributie
>{x};{g1} {f1};{e1};{p1};60

Dutch = g1 f1 e1 | g2 f2 e2
Voornaam kind;Achternaam kind;E-mail kind;Voornaam ouder;Achternaam ouder;E-mail ouder
>{g1};{f1};{e1};{g2};{f2};{e2}

Danish = g1 f1 e1 p1
Kolonihaver;;;;
Havenr.;Haveejer;E-mailadr.;Mobil;Leje betalt
>{x};{g1} {f1};{e1};{p1};ja

Swedish = g1 f1 e1 p1
Vad heter du?;Din e-post;Ditt mobilnummer;Vem tipsade dig?
>{g1} {f1};{e1};{p1};{s}

Norwegian = g1 f1 e1 p1
Hva heter du?;E-postadressen din;Telefonnummeret ditt;Hva tar du med?
>{g1} {f1};{e1};{p1};{x}

Polish = g1 f1 e1 p1
Działkowcy;;;;
Działka;Działkowiec;E-mail;Tel. kom.;Składka
>{x};{g1} {f1};{e1};{p1};60

Polish = g1 f1 e1
Nazwisko;Imię;Mail;Kto Cię polecił?
>{f1};{g1};{e1};{s}

Finnish = g1 f1 e1 p1
Mikä on nimesi?;Sähköpostiosoitteesi;Puhelinnumerosi;Kuka suositteli meitä?
>{g1} {f1};{e1};{p1};{s}

Finnish = g1 f1 e1 p1
Palstalaiset;;;;
Palsta;Viljelijä;Sähköpostios.;Matkapuh.;Maksettu
>{x};{g1} {f1};{e1};{p1};kyllä
"""


SEVENTH = """
English = g1 f1 e1 p1
Parish rota;;;;
Date;Reader;Reading;Reader's e-mail;Reader's tel.
>08/11/2026;{g1} {f1};{x};{e1};{p1}

English = g1 f1 e1 | g2 f2 e2
Mentor;Mentor e-mail;Mentee;Mentee e-mail;Started
>{g1} {f1};{e1};{g2} {f2};{e2};2024

English = g1 f1 e1 p1
Sub-committee;Chair;Contact;Tel;Meets on
>{x};{g1} {f1};{e1};{p1};Tuesdays

English = g1 f1 e1 p1
Surname;Given names;Vessel;Length (m);Email 1;Phone (H)
>{f1};{g1};{x};9.5;{e1};{p1}
Number of vessels;12;;;;

English = g1 f1 e1
Timestamp;Name (as it should appear on your badge);Email for joining instructions;Colleague who invited you
>2026-11-03 10:22;{g1} {f1};{e1};{s}

English = g1 f1 e1 p1
Client;Solicitor;Client email;Client tel;Matter
>{g1} {f1};{s};{e1};{p1};{x}

German = g1 f1 e1 p1
Übungsleiter;Abteilung;erreichbar unter;Email
>{g1} {f1};{x};{p1};{e1}

German = g1 f1 e1 | g2 f2 e2
Vorname Pate;Nachname Pate;Mail Pate;Vorname Patenkind;Nachname Patenkind;Mail Patenkind
>{g1};{f1};{e1};{g2};{f2};{e2}

German = g1 f1 e1 p1
Chorprobe, Anwesenheit;;;;
Sängerin/Sänger;Stimme;1.11.;Mail;Mobil
>{g1} {f1};{x};x;{e1};{p1}
Anwesend: 12;;;;

German = g1 f1 e1
Vorname und Nachname;E-Mail-Adresse für Rückfragen;Wen bringst du mit?
>{g1} {f1};{e1};{s}

French = g1 f1 e1 p1
Nom / Prénom;Poste;Ligne directe;Messagerie
>{f1} {g1};{x};{p1};{e1}

French = g1 f1 e1 | g2 f2 e2
Parrain;Mail parrain;Filleul;Mail filleul
>{g1} {f1};{e1};{g2} {f2};{e2}

French = g1 f1 e1
Votre prénom;Votre nom de famille;Votre mail;Qui vous accompagne ?
>{g1};{f1};{e1};{s}

Spanish = g1 f1 e1 p1
Coro, lista de cantantes;;;;
Cantante;Cuerda;Mail;Móvil
>{g1} {f1};{x};{e1};{p1}
Total cantantes: 12;;;

Spanish = g1 f1 e1
Tu nombre y apellidos;Tu email;¿Con quién vienes?
>{g1} {f1};{e1};{s}

Italian = g1 f1 e1 p1
Coristi;;;;
Corista;Voce;Posta elettr.;N. cellulare
>{g1} {f1};{x};{e1};{p1}

Italian = g1 f1 e1 | g2 f2 e2
Socio;Mail socio;Accompagnatore;Mail accompagnatore
>{g1} {f1};{e1};{g2} {f2};{e2}

Portuguese = g1 f1 e1 p1
Como se chama?;Qual é o seu e-mail?;Qual é o seu telemóvel?;Quem o convidou?
>{g1} {f1};{e1};{p1};{s}

Portuguese = g1 f1 e1
Apelido;Nome próprio;Mail;Naipe
>{f1};{g1};{e1};{x}

Dutch = g1 f1 e1 p1
Koorlid;Stemgroep;E-mail koorlid;Telefoon koorlid;Contactpersoon bij nood
>{g1} {f1};{x};{e1};{p1};{s}

Dutch = g1 f1 e1
Uw naam;Uw mailadres;Wie heeft u uitgenodigd?
>{g1} {f1};{e1};{s}

Danish = g1 f1 e1 p1
Fornavn(e);Efternavn;Stemme;Mailadr.;Telefonnr.
>{g1};{f1};{x};{e1};{p1}

Swedish = g1 f1 e1 p1
Körmedlemmar;;;;
Sångare;Stämma;E-post;Tel (mobil)
>{g1} {f1};{x};{e1};{p1}

Norwegian = g1 f1 e1 | g2 f2 e2
Fadder;E-post fadder;Fadderbarn;E-post fadderbarn
>{g1} {f1};{e1};{g2} {f2};{e2}

Polish = g1 f1 e1 p1
Chór, lista;;;;
Chórzysta;Głos;Adres mailowy;Telefon kontaktowy
>{g1} {f1};{x};{e1};{p1}

Finnish = g1 f1 e1 p1
Kuoron jäsenet;;;;
Laulaja;Ääni;Sähköposti;Puhelinnro
>{g1} {f1};{x};{e1};{p1}
"""


EIGHTH = """
English = g1 f1 e1 p1
Sailing course, week 32;;;;;
No;Trainee;Age;Email of trainee;Mobile of trainee;Swims
>1;{g1} {f1};17;{e1};{p1};yes
Total;12;;;;

English = g1 f1 e1 p1
Who;Where;E-mail;Phone (day);Remarks
>{g1} {f1};{x};{e1};{p1};

English = g1 f1 e1 | g2 f2 e2 p2
Scout;Scout's email;Mum or dad;Mum or dad's email;Mum or dad's phone
>{g1} {f1};{e1};{g2} {f2};{e2};{p2}

English = g1 f1 e1 p1
Keyholder surname;Keyholder first name;Building;Keyholder phone;Keyholder email
>{f1};{g1};{x};{p1};{e1}

English = g1 f1 e1
Registered on;Registrant;Registrant email;Registered by
>03/11/2026;{g1} {f1};{e1};{s}

German = g1 f1 e1 p1
Gemeindebrief-Austräger;;;;
Austräger;Straßen;Stück;E-Mail;Telefon
>{g1} {f1};{x};40;{e1};{p1}
Gesamt;;480;;

German = g1 f1 e1 p1
Nachname, Vorname (Titel);Raum;Durchwahl;Mail
>{f1}, {g1};{x};{p1};{e1}

German = g1 f1 e1
Eingang am;Vorname;Nachname;Mail für Bestätigung;Bemerkungen zur Anmeldung
>03.11.2026;{g1};{f1};{e1};{x}

French = g1 f1 e1 p1
Bénévoles de la fête;;;;
Bénévole;Poste tenu;Tél;E-mail;Créneau
>{g1} {f1};{x};{p1};{e1};matin

French = g1 f1 e1 p1
N° adh.;Nom;Prénom;Tél. portable;Adresse mail;Cotisation
>471;{f1};{g1};{p1};{e1};60

Spanish = g1 f1 e1 p1
Nº;Apellidos, Nombre;Teléfono;E-mail;Cuota
>12;{f1}, {g1};{p1};{e1};60

Spanish = g1 f1 e1 | g2 f2 e2
Padrino;Correo padrino;Ahijado;Correo ahijado
>{g1} {f1};{e1};{g2} {f2};{e2}

Italian = g1 f1 e1 p1
Volontari;;;;
Volontario;Turno;Cell.;E-mail;Taglia
>{g1} {f1};{x};{p1};{e1};M

Italian = g1 f1 e1
Informazioni cronologiche;Indirizzo email;Nome e cognome;Come ci hai conosciuto?
>03/11/2026 10:22;{e1};{g1} {f1};{x}

Portuguese = g1 f1 e1 p1
Carimbo de data/hora;Nome completo;Endereço de e-mail;Contacto;Quem te indicou?
>03/11/2026 10:22;{g1} {f1};{e1};{p1};{s}

Portuguese = g1 f1 e1 | g2 f2 e2
Aluno;E-mail do aluno;Encarregado de educação;E-mail do encarregado
>{g1} {f1};{e1};{g2} {f2};{e2}

Dutch = g1 f1 e1 p1
Lidnr.;Achternaam;Voornaam;Mobiel nr.;E-mail;Lid sinds
>471;{f1};{g1};{p1};{e1};2014

Dutch = g1 f1 e1 p1
Rooster kerkkoor;;;;
Zanger;Partij;Mailadres;Telefoon thuis
>{g1} {f1};{x};{e1};{p1}

Danish = g1 f1 e1
Tidsstempel;Hvad hedder du?;Hvad er din mailadresse?;Hvem har anbefalet os?
>03-11-2026 10.22;{g1} {f1};{e1};{s}

Danish = g1 f1 e1 p1
Medlemsnr.;Navn;Telefon privat;E-mail privat;Kontingent
>471;{g1} {f1};{p1};{e1};600

Swedish = g1 f1 e1 p1
Medlemsnr;Förnamn;Efternamn;Mobil;E-postadress;Betalt
>471;{g1};{f1};{p1};{e1};ja

Swedish = g1 f1 e1
Tidstämpel;För- och efternamn;Mailadress;Vem bjöd in dig?
>2026-11-03 10:22;{g1} {f1};{e1};{s}

Norwegian = g1 f1 e1 p1
Medlemsnr.;Navn;Båtplass;Mob.;E-post;Betalt
>471;{g1} {f1};{x};{p1};{e1};ja

Polish = g1 f1 e1 p1
Lp.;Nazwisko i imię;Nr telefonu;E-mail;Składka
>1;{f1} {g1};{p1};{e1};60

Finnish = g1 f1 e1 p1
Jäsennro;Sukunimi Etunimi;Puh. nro;Sähköposti;Maksu
>471;{f1} {g1};{p1};{e1};60

Finnish = g1 f1 e1
Aikaleima;Nimesi;Sähköpostisi;Kuka kutsui sinut?
>3.11.2026 10.22;{g1} {f1};{e1};{s}
"""


TEMPLATES = (THIRD, FOURTH, FIFTH, SIXTH, SEVENTH, EIGHTH)


def made(template: str, pick: random.Random) -> Sheet:
    """A sheet of one template."""
    head, *lines = template.strip("\n").split("\n")
    language, _, wanted = head.partition(" = ")
    m = Maker(pick, LANGUAGES[language])
    people: list[Somebody] = []
    kept: list[str] = []
    cells: list[list[str]] = []
    for line in lines:
        for _ in range(pick.randrange(6, 13) if line.startswith(">") else 1):
            if not line.startswith(">"):
                if not line.startswith("<"):
                    cells.append(line.split(";"))
                continue
            values: dict[str, str] = {}
            for who in "123":
                given, family = m.who()
                values |= {
                    f"g{who}": given,
                    f"f{who}": family,
                    f"e{who}": m.address(given, family),
                    f"E{who}": m.address(given, family),
                }
                values |= {f"p{who}": m.phone(), f"q{who}": m.phone()}
            values |= {
                "x": m.pick.choice(("Alto", "Sandpiper", "Quay Street 4", "3b", "Ebbhaven")),
                "s": " ".join(m.who()),
                "t": m.address(*m.who()),
            }
            row = re.sub(r"\{(\w+)\}", lambda mark, values=values: values[mark[1]], line[1:])  # type: ignore[misc]
            cells.append(row.split(";"))
            kept += [values[mark] for mark in ("x", "s", "t") if f"{{{mark}}}" in line]
            for one in wanted.split("|"):
                marks = [mark for mark in one.split() if f"{{{mark}}}" in line]
                name = " ".join(values[mark] for mark in marks if mark[0] in "gf")
                people.append(
                    Somebody(
                        name, [values[k] for k in marks if k[0] in "eE"], [values[k] for k in marks if k[0] in "pq"]
                    )
                )
    sheet = Sheet(cells, people, kept)
    sheet.region = LANGUAGES[language].region
    sheet.codec = pick.choice(("utf-8", "utf-8-sig", *LANGUAGES[language].codecs))
    sheet.workbook = pick.random() < 0.5
    return sheet


def everyone(templates: str, seed: int, rounds: int) -> Iterator[tuple[str, Sheet]]:
    """All templates, so many times each."""
    for round_ in range(rounds):
        for number, template in enumerate(templates.strip("\n").split("\n\n")):
            about = f"{round_} {template.split()[0]} template{number + 1}"
            yield about, made(template, random.Random(f"{seed}/{about}"))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seed", type=int, default=7)
    parser.add_argument("--rounds", type=int, default=4)
    parser.add_argument("--show", type=int, default=0)
    args = parser.parse_args()
    for templates in TEMPLATES:
        run(everyone(templates, args.seed, args.rounds), args.show, args.seed)


if __name__ == "__main__":
    main()
