namespace Vestige.Web.Pages.Crossings;

/// <summary>The fields of one of the tables among which rows are divided; both empty where there is none.</summary>
public sealed class SplitChoiceForm
{
    /// <summary>The target's table, as <c>schema.table</c>.</summary>
    public string? Into { get; set; }

    /// <summary>The condition of its rows; empty for all other rows.</summary>
    public string? When { get; set; }
}
