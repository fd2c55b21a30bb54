using System.Buffers;
using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>
/// How the values of a row are written before they are hashed: two rows get the same bytes exactly when they are equal by the
/// form's own meaning, so that its parts cannot run into each other.
/// </summary>
public interface IRowForm
{
    /// <summary>Appends some columns of a row, in that order.</summary>
    void Write(Row row, IReadOnlyList<int> columns, IBufferWriter<byte> into);
}
