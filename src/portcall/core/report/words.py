"""The words of a record in English, German and Spanish.

What devices and this tool said stays as it was said: a finding that is translated is another one.
"""

from __future__ import annotations

from collections.abc import Mapping

ENGLISH, GERMAN, SPANISH = "en", "de", "es"
LANGUAGES = (ENGLISH, GERMAN, SPANISH)

_WORDS = {
    "title": ("Hand-over record", "Übergabeprotokoll", "Acta de entrega"),
    "as_of": ("As of", "Stand", "Estado a"),
    "site": ("Site", "Anlage", "Instalación"),
    "people": ("Done by", "Ausgeführt von", "Realizado por"),
    "tool": ("Made with", "Erstellt mit", "Hecho con"),
    "summary": ("Result", "Ergebnis", "Resultado"),
    "verified_right": ("verified right", "geprüft und richtig", "verificados y correctos"),
    "of": ("of", "von", "de"),
    "devices": ("Devices", "Geräte", "Dispositivos"),
    "name": ("Name", "Name", "Nombre"),
    "place": ("Place", "Ort", "Lugar"),
    "group": ("Group", "Gruppe", "Grupo"),
    "maker": ("Maker", "Hersteller", "Fabricante"),
    "product": ("Product", "Produkt", "Producto"),
    "serial": ("Serial number", "Seriennummer", "Número de serie"),
    "firmware": ("Firmware", "Firmware", "Firmware"),
    "mac": ("MAC", "MAC", "MAC"),
    "address": ("Address", "Adresse", "Dirección"),
    "mask": ("Mask", "Maske", "Máscara"),
    "gateway": ("Gateway", "Gateway", "Puerta de enlace"),
    "holds": ("Holds its address", "Hält seine Adresse", "Conserva su dirección"),
    "proof": ("Proof", "Nachweis", "Prueba"),
    "state": ("State", "Zustand", "Estado"),
    "verified": ("Verified", "Geprüft", "Verificado"),
    "echo": ("Echo", "Echo", "Eco"),
    "power_cycle": ("Power cycle", "Spannungsausfall", "Corte de tensión"),
    "by_hand": ("read by hand", "von Hand abgelesen", "leído a mano"),
    "planned": ("planned", "geplant", "planificado"),
    "open": ("What is open", "Offene Punkte", "Pendiente"),
    "nothing_open": (
        "Nothing: every planned device is verified right.",
        "Nichts: jedes geplante Gerät ist geprüft und richtig.",
        "Nada: todos los dispositivos planificados están verificados y correctos.",
    ),
    "what": ("What", "Was", "Qué"),
    "next": ("What to do", "Was zu tun ist", "Qué hacer"),
    "changes": (
        "What was changed, and what it was before",
        "Was geändert wurde, und wie es vorher war",
        "Qué se cambió, y cómo estaba antes",
    ),
    "when": ("When", "Wann", "Cuándo"),
    "who": ("Who", "Wer", "Quién"),
    "now": ("Now", "Jetzt", "Ahora"),
    "before": ("Before", "Vorher", "Antes"),
    "replaced": ("What was replaced", "Was ersetzt wurde", "Qué se sustituyó"),
    "old": ("Old device", "Altes Gerät", "Dispositivo antiguo"),
    "new": ("New device", "Neues Gerät", "Dispositivo nuevo"),
    "verdict": ("Verdict", "Urteil", "Resultado"),
    "watches": ("Watches", "Beobachtungen", "Observaciones"),
    "target": ("Target", "Ziel", "Objetivo"),
    "sent": ("Sent", "Gesendet", "Enviados"),
    "lost": ("Lost", "Verloren", "Perdidos"),
    "median": ("Median", "Median", "Mediana"),
    "gap": ("Longest gap", "Längste Lücke", "Pausa más larga"),
    "lasted": ("Lasted", "Dauer", "Duración"),
    "sketch": ("Sketch", "Skizze", "Croquis"),
    "before_title": (
        "Sheet for commissioning",
        "Blatt für die Inbetriebnahme",
        "Hoja para la puesta en marcha",
    ),
    "kind": ("Kind", "Art", "Tipo"),
    "no_panel": ("Without a place", "Ohne Ort", "Sin lugar"),
    "is_kept": ("Keeps", "Hält", "Conserva"),
    "is_proved": ("Tested", "Geprüft", "Probado"),
    "initials": ("By", "Von", "Por"),
    "done_by": ("Done by", "Ausgeführt von", "Realizado por"),
    "notes": ("Notes", "Notizen", "Notas"),
    "of_plan": ("the plan", "der Plan", "el plan"),
    "remarks": ("Remarks", "Bemerkungen", "Observaciones del firmante"),
    "none": ("None.", "Keine.", "Ninguna."),
    "signatures": ("Signatures", "Unterschriften", "Firmas"),
    "handed_over": ("Handed over by", "Übergeben von", "Entregado por"),
    "taken_over": ("Taken over by", "Übernommen von", "Recibido por"),
    "date": ("Place and date", "Ort und Datum", "Lugar y fecha"),
    "grounds": (
        "What this record rests on",
        "Worauf dieses Protokoll beruht",
        "En qué se basa esta acta",
    ),
    "entries": ("entries of the logbook", "Einträge des Logbuchs", "entradas del registro"),
    "how_to_check": (
        "SHA-256 of the SHA-256 of each entry's line, in hexadecimal, one a line, oldest first; "
        "the lines are those of: portcall logbook export. With the tool: portcall report --check",
        "SHA-256 über die SHA-256 der Zeile jedes Eintrags, hexadezimal, je eine Zeile, der "
        "älteste zuerst; die Zeilen sind die von: portcall logbook export. Mit dem Werkzeug: "
        "portcall report --check",
        "SHA-256 de los SHA-256 de la línea de cada entrada, en hexadecimal, uno por línea, el más "
        "antiguo primero; las líneas son las de: portcall logbook export. Con la herramienta: "
        "portcall report --check",
    ),
    "not_known": ("not known", "nicht bekannt", "no se sabe"),
    "never": ("never", "nie", "nunca"),
    "ms": ("ms", "ms", "ms"),
    "never seen": ("never seen", "nie gesehen", "nunca visto"),
    "seen": ("seen", "gesehen", "visto"),
    "asked": ("asked for an address", "hat um eine Adresse gebeten", "pidió una dirección"),
    "given": ("given its address", "Adresse gegeben", "dirección dada"),
    "kept": ("told to keep it", "angewiesen, sie zu halten", "con orden de conservarla"),
    "proved by power cycle": (
        "proved by power cycle",
        "durch Spannungsausfall bewiesen",
        "probado con corte de tensión",
    ),
    "not all read": ("not all read", "nicht alles abgelesen", "no todo leído"),
    "verified right": ("verified right", "geprüft: richtig", "verificado: correcto"),
    "verified wrong": ("verified wrong", "geprüft: falsch", "verificado: incorrecto"),
    "keeps": ("keeps it", "hält sie", "la conserva"),
    "asks": ("asks for it at each start", "fragt bei jedem Start", "la pide en cada arranque"),
}


def words(language: str) -> Mapping[str, str]:
    """The words of a language by what they are for; ``LANGUAGES`` are known."""
    place = LANGUAGES.index(language)
    return {key: each[place] for key, each in _WORDS.items()}
