"""The core: what is known of access, decided and changed, without anything of this process.

Nothing here prints, parses a command line, reads a clock or the environment, or
opens a file. What it needs to know of a machine it asks through
:class:`fiat.core.model.host.Host`. The rooms, each importing only from those above:

    errors, text   the errors of Fiat; text made harmless

    what decides
        model/     values: modes, lists, postures, accounts, principals, rights, findings, records
        words/     what a person types, and how things are called
        rules/     every rule of access and of change, once; where two answers differ
        tree/      routes, surveys of trees, answers for trees, the host as if
        ask/       who, why, effects, caveats, remarks

    what is built upon it
        change/    steps, plans, guards, applying, undoing
        suggest/   advice, the least change (let, bar), arrangements, forecasts
        state/     what is kept of a host; two states compared, and one put back
        audit/     rules that find what is dangerous or odd, the evidence for it, what mends it
        expect/    expectations: read, held or broken, mended
"""
