using Vestige.Core.Joining;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>What the files of a spool hold after a start or a failed write, their unfinished tails cut off.</summary>
internal sealed record RecoveredSpool(
    List<SpoolFileEntry> Files,
    Dictionary<int, TableSchema> Relations,
    List<SpooledTable> Tables,
    Dictionary<string, string> Notes,
    JoinPoint? Join
)
{
    /// <summary>
    /// Opens every file, in order; one that a crash left half begun is deleted. Throws <see cref="PortException"/>, not transient, where
    /// one between two others is missing.
    /// </summary>
    public static async Task<RecoveredSpool> ReadAsync(ISpoolFiles files, ISpoolCipher cipher, CancellationToken cancellation)
    {
        var found = new List<SpoolFileEntry>();
        var relations = new Dictionary<int, TableSchema>();
        List<SpooledTable> tables = [];
        Dictionary<string, string> notes = [];
        JoinPoint? join = null;
        foreach (var number in await files.ListAsync(cancellation))
        {
            var file = await files.OpenAsync(number, cancellation);
            await CutTailAsync(file, cancellation);
            var begun = await SpoolPreamble.ReadAsync(file, cipher, cancellation);
            if (begun is null)
            {
                await file.DisposeAsync();
                await files.DeleteAsync(number, cancellation);
                continue;
            }

            foreach (var (relation, form) in begun.Relations)
            {
                relations[relation] = form;
            }

            (tables, notes, join) = (begun.Tables, begun.Notes, begun.Join);
            if (found.Count > 0 && !Follows(begun.Header, found[^1].Last))
            {
                throw new PortException(
                    $"A file of the spool is missing: file {number} begins after position {begun.Header.Start}, and the one before it "
                        + $"ends at {found[^1].Last}. What was in between is lost."
                )
                {
                    Remedy =
                        "Restore the data folder from a backup; or delete the spool's folder, restart Vestige, and reload the "
                        + "crossings of this source.",
                };
            }

            var last = await file.LastAsync(complete: true, cancellation);
            found.Add(new SpoolFileEntry(number, file, begun.Header) { Last = begun.Header.Start.At(last?.Number ?? begun.Header.After) });
        }

        return new RecoveredSpool(found, relations, tables, notes, join);
    }

    /// <summary>
    /// Whether a file begins where the one before it ended, or at the beginning of the branch that follows the one that ended there.
    /// </summary>
    private static bool Follows(SpoolHeader header, LogPosition end) =>
        header.Branch == end.Branch
            ? header.After == end.Offset
            : header.Branch == end.Branch + 1
                && header.AllBranches[end.Branch].End == end.Offset
                && header.After == header.AllBranches[^1].Begin;

    /// <summary>Removes the parts of a transaction whose end never came. Nothing that was acknowledged lies after them.</summary>
    private static async Task CutTailAsync(ISpoolFile file, CancellationToken cancellation)
    {
        var complete = await file.LastAsync(complete: true, cancellation);
        var beyond = await file.ReadAsync(complete?.Sequence ?? 0, 1, cancellation);
        await file.CutAsync(beyond.Count > 0 ? beyond[0].Sequence - 1 : long.MaxValue, cancellation);
    }
}
