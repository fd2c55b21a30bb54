namespace Vestige.Core.Treatments;

/// <summary>What becomes of one column, as it can be chosen without writing steps.</summary>
/// <param name="Column">The column, by the name it has before the choices take effect.</param>
/// <param name="LeftOut">Whether the target does not get it.</param>
/// <param name="Name">Its name on the target; null to keep the one it has.</param>
/// <param name="Type">Its type on the target; null to keep the one it has.</param>
/// <param name="AllowLoss">Whether the type may change values (round, cut).</param>
/// <param name="Mask">How its values are hidden; null where they are not.</param>
public sealed record ColumnChoice(
    string Column,
    bool LeftOut = false,
    string? Name = null,
    string? Type = null,
    bool AllowLoss = false,
    MaskedColumn? Mask = null
);
