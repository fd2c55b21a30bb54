using System.Buffers;
using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>
/// Each value by itself: in the engine's own form where it passes as it is, in the canonical one where it was made or converted on the
/// way, since the target then writes it in a way of its own. Not safe for several threads.
/// </summary>
/// <param name="own">The engine's own form.</param>
/// <param name="canonical">The canonical form of the columns.</param>
/// <param name="made">The ordinals of those that were made or converted.</param>
public sealed class MixedForm(IRowForm own, CanonicalForm canonical, IReadOnlySet<int> made) : IRowForm
{
    private readonly int[] one = new int[1];

    public void Write(Row row, IReadOnlyList<int> columns, IBufferWriter<byte> into)
    {
        ArgumentNullException.ThrowIfNull(columns);
        foreach (var column in columns)
        {
            one[0] = column;
            IRowForm form = made.Contains(column) ? canonical : own;
            form.Write(row, one, into);
        }
    }
}
