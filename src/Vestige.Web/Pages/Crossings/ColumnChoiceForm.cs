using System.Globalization;
using Vestige.Core.Treatments;

namespace Vestige.Web.Pages.Crossings;

/// <summary>The fields of one column on the New crossing page.</summary>
public sealed class ColumnChoiceForm
{
    private const int UsualLast = 4;
    private const int UsualDays = 30;

    /// <summary>The masks to choose from: the value of the field, and the words for it.</summary>
    public static readonly IReadOnlyList<(string Value, string Words)> Masks =
    [
        ("", "not masked"),
        ("null", "NULL"),
        ("fixed", "fixed text"),
        ("hash", "keyed hash"),
        ("keepLast", "last characters only"),
        ("shiftDate", "shifted date"),
        ("code", "pseudonym: code"),
        ("name", "pseudonym: name"),
        ("email", "pseudonym: email"),
        ("number", "pseudonym: number"),
    ];

    /// <summary>The column as it is before the choices.</summary>
    public string? Column { get; set; }

    public bool LeftOut { get; set; }

    /// <summary>The new name; empty to keep the one it has.</summary>
    public string? Name { get; set; }

    /// <summary>The new type; empty to keep the one it has.</summary>
    public string? Type { get; set; }

    public bool AllowLoss { get; set; }

    /// <summary>The mask's method, of a pseudonym its kind; empty for none.</summary>
    public string? Mask { get; set; }

    /// <summary>The mask's text, number of characters or number of days.</summary>
    public string? Detail { get; set; }

    /// <summary>What <see cref="Detail"/> is for the chosen mask; null where it has none.</summary>
    public string? DetailIs =>
        Mask switch
        {
            "fixed" => "text",
            "keepLast" => "characters",
            "shiftDate" => "days at most",
            _ => null,
        };

    public static ColumnChoiceForm Of(ColumnChoice choice)
    {
        ArgumentNullException.ThrowIfNull(choice);
        return new ColumnChoiceForm
        {
            Column = choice.Column,
            LeftOut = choice.LeftOut,
            Name = choice.Name,
            Type = choice.Type,
            AllowLoss = choice.AllowLoss,
            Mask = choice.Mask is { } mask ? Word(mask) : null,
            Detail = choice.Mask?.Value ?? (choice.Mask?.Last ?? choice.Mask?.Days)?.ToString(CultureInfo.InvariantCulture),
        };
    }

    /// <summary>The choice, with what the form has no field for as it was.</summary>
    /// <param name="before">The choice that the form was drawn from; null where there was none.</param>
    public ColumnChoice Choice(ColumnChoice? before) => new(Column ?? "", LeftOut, Said(Name), Said(Type), AllowLoss, Masked(before?.Mask));

    private MaskedColumn? Masked(MaskedColumn? before)
    {
        if (Said(Mask) is not { } word)
        {
            return null;
        }

        var kind = Enum.TryParse<PseudonymKind>(word, ignoreCase: true, out var found) ? found : (PseudonymKind?)null;
        var method =
            kind is not null ? MaskMethod.Pseudonym
            : Enum.TryParse<MaskMethod>(word, ignoreCase: true, out var named) ? named
            : MaskMethod.Null;
        var number = int.TryParse(Detail, NumberStyles.None, CultureInfo.InvariantCulture, out var count) ? count : (int?)null;
        return new MaskedColumn(
            Column ?? "",
            method,
            method == MaskMethod.Fixed ? Detail ?? "" : null,
            method == MaskMethod.KeepLast ? number ?? UsualLast : null,
            method == MaskMethod.ShiftDate ? number ?? UsualDays : null,
            method == MaskMethod.ShiftDate ? before?.Along : null,
            kind,
            before?.Key
        );
    }

    private static string Word(MaskedColumn mask)
    {
        var word = mask.By == MaskMethod.Pseudonym ? (mask.Kind ?? PseudonymKind.Code).ToString() : mask.By.ToString();
        return char.ToLowerInvariant(word[0]) + word[1..];
    }

    private static string? Said(string? text) => string.IsNullOrWhiteSpace(text) ? null : text.Trim();
}
