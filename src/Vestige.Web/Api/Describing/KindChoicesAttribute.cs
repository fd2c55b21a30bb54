namespace Vestige.Web.Api.Describing;

/// <summary>Marks a text that is one of the kinds of connection this build has.</summary>
[AttributeUsage(AttributeTargets.Property)]
public sealed class KindChoicesAttribute : Attribute;
