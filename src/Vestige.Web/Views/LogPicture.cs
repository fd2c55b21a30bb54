using Vestige.Core.Positions;

namespace Vestige.Web.Views;

/// <summary>What will be read again and until when, and what the other tables do meanwhile.</summary>
/// <param name="Lanes">From top to bottom.</param>
/// <param name="Marks">Places that all lanes share, from 0 to 1, each with its label, to the right of it or to the left.</param>
/// <param name="Says">All of it as a sentence, for those who do not see it.</param>
public sealed record LogPicture(IReadOnlyList<LogLane> Lanes, IReadOnlyList<(double At, string Label, bool IsLeft)> Marks, string Says)
{
    private const double Now = 0.86;

    /// <summary>From here on two labels have room to the left of a mark.</summary>
    private const double Roomy = 0.7;
    private static readonly IReadOnlyList<(double At, string Label, bool IsLeft)> NoMarks = [];

    /// <summary>
    /// Where a load that begins now has read all rows, and where it has caught up. Not to scale: how long it takes is a guess.
    /// </summary>
    private const double Begin = 0.06;
    private const double Read = 0.6;
    private const double Met = 0.8;

    /// <summary>Changes of some tables between two places of the log are applied again. To the scale of the log.</summary>
    /// <param name="held">From where on the spool holds the changes.</param>
    /// <param name="from">From where on they are applied again.</param>
    /// <param name="until">Up to where the crossing is.</param>
    /// <param name="since">What was asked for.</param>
    /// <param name="tables">How many tables.</param>
    public static LogPicture? OfRewind(LogPosition held, LogPosition from, LogPosition until, string since, int tables)
    {
        if (held.Branch != until.Branch || from.Branch != until.Branch || until <= held)
        {
            return null;
        }

        var at = Now * (from.Offset - held.Offset) / (until.Offset - held.Offset);
        return new LogPicture(
            [
                new LogLane("in the spool", [new LogStretch(0, Now, "kept", "every change is held")]),
                new LogLane(These(tables), [new LogStretch(at, Now, "again", "applied again")]),
                new LogLane("other tables", [new LogStretch(0, 1, "follows", "follow as before")]),
            ],
            [.. at > Roomy ? [(0, "spool begins", false)] : NoMarks, (at, "from here", at > Now / 2), (Now, "now", false)],
            $"The spool holds all changes; those of {These(tables)} since {since} are applied again up to now. Other tables follow as "
                + "before."
        );
    }

    /// <summary>Tables are loaded again beside the others, or all others wait for them.</summary>
    /// <param name="reading">How long the rows take, as far as that can be guessed.</param>
    /// <param name="othersGoOn">Whether the other tables follow meanwhile.</param>
    /// <param name="tables">How many are loaded.</param>
    /// <param name="hasOthers">Whether there are others.</param>
    public static LogPicture OfReload(TimeSpan? reading, bool othersGoOn, int tables, bool hasOthers)
    {
        var rows = new LogStretch(Begin, Read, "read", "all rows are read, as of now");
        var changes = new LogStretch(Read, Met, "again", "changes since now");
        var read = reading is { } time ? $"in about {Core.Text.Figures.Duration(time)}" : "all rows read";
        List<LogLane> lanes = [new LogLane(These(tables), [rows, changes, new LogStretch(Met, 1, "follows", "follows")])];
        if (hasOthers)
        {
            lanes.Add(
                othersGoOn
                    ? new LogLane("other tables", [new LogStretch(0, 1, "follows", "follow as before")])
                    : new LogLane(
                        "other tables",
                        [
                            new LogStretch(0, Begin, "follows", ""),
                            new LogStretch(Read, Met, "again", "changes since now"),
                            new LogStretch(Met, 1, "follows", "follows"),
                        ]
                    )
            );
        }

        return new LogPicture(
            lanes,
            [(Begin, "now", false), (Read, read, false), (Met, "caught up", false)],
            $"All rows are read as of now{(reading is null ? "" : $", {read}")}; then the changes since now are applied, and the tables "
                + "follow. "
                + (!hasOthers ? "" : othersGoOn ? "Other tables follow as before." : "Other tables wait until the rows are read.")
        );
    }

    private static string These(int tables) => tables == 1 ? "this table" : "these tables";
}
