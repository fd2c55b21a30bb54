namespace Vestige.Web.Api.Documents;

/// <summary>One of the values of a setting.</summary>
public sealed record SettingChoiceDocument(string Value, string Label);
