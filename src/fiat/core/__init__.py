"""The core: what is known of access, decided and changed, without anything of this process.

Nothing here prints, parses a command line, reads a clock or the environment, or
opens a file. What it needs to know of a machine it asks through
:class:`fiat.core.model.host.Host`. The rooms, each importing only from those above:

    errors, text   the errors of Fiat; text made harmless
    model/         values: modes, lists, postures, accounts, principals, rights, findings, records
    words/         what a person types, and how things are called
    rules/         every rule of access and of change, once
    tree/          routes, surveys of trees, answers for trees, the host as if
    ask/           who, why, effects, caveats, remarks
    change/        steps, plans, guards, applying, undoing
    suggest/       advice
"""
